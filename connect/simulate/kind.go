package simulate

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
)

// Kind are made-up events.
var Kind = &connect.Kind{
	Name: "simulate", Noun: "made-up stream", About: "events that are made up from a seed",
	SourceExample: connect.Example{Name: "made up", About: "events that are made up from a seed",
		Lines: "via: simulate\nwith: {rate: 10/s, fields: {id: {pick: [a, b, c]}, at: {now: true}}}"},
	Source: func() connect.Source { return &source{Seed: 1, Start: moment(row.MinTime)} },
}

// source are the settings of made-up events (docs/connectors.md, "simulate").
type source struct {
	Rate     rate                    `set:"rate,required,free" missing:"the rate is missing" fix:"add rate: 200/s" about:"Events a second, such as 200/s." hint:"200/s" shape:"^[0-9.]+/s$"`
	Count    int64                   `set:"count" least:"1" about:"How many events; without it they do not end."`
	Seed     uint64                  `set:"seed" about:"What the events are made up from: the same seed gives the same events." least:"0" default:"1"`
	Start    moment                  `set:"start" about:"The time of the first event; without it the clock's." hint:"2026-01-01T00:00:00Z"`
	Fields   []settings.Entry[field] `set:"fields,required" missing:"the simulated events have no fields" fix:"add fields: {crane: {pick: [C1, C2]}}" about:"How each field is made."`
	Disorder struct {
		Share share         `set:"share,required" about:"The part of all events: 0.05 is one in twenty." missing:"the share is missing" fix:"add share: 0.05"`
		UpTo  time.Duration `set:"up_to,required" about:"By how much at most." missing:"the greatest delay is missing" fix:"add up_to: 20s"`
	} `set:"disorder" about:"That share comes late, by up to so long."`
	Again struct {
		Share share `set:"share,required" about:"The part of all events: 0.05 is one in twenty." missing:"the share is missing" fix:"add share: 0.02"`
	} `set:"again" about:"That share is sent twice."`
	Quiet struct {
		Field   string        `set:"field,required" about:"The field."`
		Value   string        `set:"value,required" about:"Its value."`
		Every   time.Duration `set:"every,required" about:"How often."`
		For     time.Duration `set:"for,required" about:"For how long."`
		Backlog bool          `set:"backlog" default:"false" about:"They come afterwards."`
	} `set:"quiet" about:"Events with that value are silent for so long every so often."`
	Begin string `set:"begin,beside" about:"Where a first run starts." choices:"earliest" later:"latest" default:"earliest"`

	makers []Maker
}

// field says how a field is made, in one way.
type field struct {
	Pick    []settings.Scalar `set:"pick,once" about:"One of these."`
	Skew    float64           `set:"skew" about:"With pick: how much more often the first ones come."`
	Between []settings.Scalar `set:"between,once" about:"A number between two."`
	Normal  []float64         `set:"normal,once" about:"Mean and standard deviation."`
	Walk    *struct {
		From float64 `set:"from,required" about:"Where it begins."`
		Step float64 `set:"step,required" about:"How far it goes at most with each event."`
		Low  float64 `set:"low,required" about:"The least."`
		High float64 `set:"high,required" about:"The greatest."`
	} `set:"walk,once" about:"A number that wanders."`
	Wave *struct {
		Period time.Duration `set:"period,required" about:"From one high water to the next." missing:"period is missing" fix:"add period: 12h24m"`
		Low    float64       `set:"low,required" about:"The least."`
		High   float64       `set:"high,required" about:"The greatest."`
	} `set:"wave,once" about:"A number that rises and falls like the tide."`
	CountFrom int64                   `set:"count_from,once" about:"Numbers one after another, from this one."`
	ID        bool                    `set:"id,once" about:"A name of its own for each event."`
	Now       bool                    `set:"now,once" about:"The time of the event."`
	Expr      settings.ExpressionText `set:"expr,once" about:"An expression over the fields before it."`
}

// rate is a number of events a second.
type rate float64

// UnmarshalText reads 200/s.
func (r *rate) UnmarshalText(text []byte) error {
	num, per := strings.CutSuffix(string(text), "/s")
	f, err := strconv.ParseFloat(num, 64)
	if err != nil || !per || !(f > 0 && f <= 1e7) {
		return fmt.Errorf("%s is not a rate; write events a second, such as 200/s", text)
	}
	*r = rate(f)
	return nil
}

// share is a part of all, from 0 to 1.
type share float64

// UnmarshalText reads a share.
func (s *share) UnmarshalText(text []byte) error {
	f, err := strconv.ParseFloat(string(text), 64)
	if err != nil || !(f >= 0 && f <= 1) {
		return fmt.Errorf("%s is not a share; give a number from 0 to 1", text)
	}
	*s = share(f)
	return nil
}

// moment is a time; row.MinTime for the clock's.
type moment row.Time

// UnmarshalText reads RFC 3339.
func (m *moment) UnmarshalText(text []byte) error {
	t, err := time.Parse(time.RFC3339Nano, string(text))
	if err != nil {
		return fmt.Errorf("%q is not a timestamp; write a time such as 2026-01-01T00:00:00Z", text)
	}
	*m = moment(row.TimeOf(t))
	return nil
}

var ways = []string{"pick", "between", "normal", "walk", "wave", "count_from", "id", "now", "expr"}

func (s *source) Check(c *connect.Checker) {
	if c.Format != nil && c.Format.Name != "json" {
		c.Fault("simulated events are JSON", "write decode: json, or leave it out", "decode")
	}
	s.makers = nil
	for _, e := range s.Fields {
		if m, ok := s.maker(c, e.Name, &e.Value); ok {
			s.makers = append(s.makers, m)
		}
	}
	if !c.Has("quiet", "field") {
		return
	}
	names := make([]string, len(s.makers))
	for i, m := range s.makers {
		names[i] = m.Name
	}
	if !slices.Contains(names, s.Quiet.Field) {
		c.Fault("there is no field "+s.Quiet.Field, c.Nearest(s.Quiet.Field, names), "quiet", "field")
	}
}

// maker checks how a field is made; false where that is wrong.
func (s *source) maker(c *connect.Checker, name string, f *field) (Maker, bool) {
	m := Maker{Name: name}
	for _, way := range ways {
		if !c.Has("fields", name, way) {
			continue
		}
		if m.Make != "" {
			c.Fault(m.Make+" and "+way+" stand together", "a field is made in one way", "fields", name)
			return m, false
		}
		m.Make = way
	}
	if m.Make == "" {
		c.Fault("the field is not said to be made in any way", "one of "+strings.Join(ways, ", "), "fields", name)
		return m, false
	}
	wrong := func(message, remedy string) bool {
		c.Fault(message, remedy, "fields", name, m.Make)
		return false
	}
	ok := true
	switch m.Make {
	case "pick":
		m.Numbers = []float64{f.Skew}
		if len(f.Pick) == 0 {
			return m, wrong("a list of values belongs here", "write pick: [C1, C2]")
		}
		m.Kind, m.Pick = picked(f.Pick)
	case "between":
		ok = f.between(&m, wrong)
	case "normal":
		if m.Kind, m.Numbers = row.Double, f.Normal; len(f.Normal) != 2 {
			return m, wrong("a list of 2 numbers belongs here", "write [20, 4]: the mean and the deviation")
		}
	case "walk":
		m.Kind, m.Numbers = row.Double, []float64{f.Walk.From, f.Walk.Step, f.Walk.Low, f.Walk.High}
	case "wave":
		m.Kind, m.Numbers, m.Period = row.Double, []float64{f.Wave.Low, f.Wave.High}, f.Wave.Period
	case "count_from":
		m.Kind, m.Numbers = row.Int, []float64{float64(f.CountFrom)}
	case "id":
		m.Kind = row.String
	case "now":
		m.Kind = row.Timestamp
	case "expr":
		var before row.Schema
		for _, other := range s.makers {
			before = append(before, row.Field{Name: other.Name, Kind: other.Kind})
		}
		if m.Expr = c.Expression(f.Expr, before, "fields", name, "expr"); m.Expr == nil {
			return m, false
		}
		m.Kind = m.Expr.Kind()
	}
	return m, ok
}

// picked gives values to pick: whole numbers where all are, else texts.
func picked(list []settings.Scalar) (row.Kind, []expr.Value) {
	kind := row.Int
	for _, x := range list {
		if _, err := strconv.ParseInt(x.Text, 10, 64); err != nil || x.Quoted {
			kind = row.String
		}
	}
	var out []expr.Value
	for _, x := range list {
		v := expr.Value{Kind: kind, S: x.Text}
		if kind == row.Int {
			v = expr.Value{Kind: kind}
			v.I, _ = strconv.ParseInt(x.Text, 10, 64) // it was read above
		}
		out = append(out, v)
	}
	return kind, out
}

// between reads two numbers: ints where neither has a fraction.
func (f *field) between(m *Maker, wrong func(message, remedy string) bool) bool {
	m.Kind = row.Int
	for _, x := range f.Between {
		v, err := strconv.ParseFloat(x.Text, 64)
		if err != nil || v-v != 0 {
			return wrong(x.Text+" is not a number", "give a number such as 0.5")
		}
		if strings.Contains(x.Text, ".") {
			m.Kind = row.Double
		}
		m.Numbers = append(m.Numbers, v)
	}
	switch {
	case len(m.Numbers) != 2:
		return wrong("a list of 2 numbers belongs here", "write [1, 9]")
	case m.Numbers[0] > m.Numbers[1]:
		return wrong("the first number is greater than the second", "give the lesser first")
	}
	return true
}

func (s *source) Reads(*connect.Format) string {
	if s.Count > 0 {
		return fmt.Sprintf("%d simulated events", s.Count)
	}
	return fmt.Sprintf("simulated events without end, %g a second", float64(s.Rate))
}

func (s *source) Unbounded() bool { return s.Count == 0 }

// partition makes the one partition. A timestamp is written as the source will read it.
func (s *source) partition(o connect.Opening) *Partition {
	c := Config{PerSecond: float64(s.Rate), Count: s.Count, Seed: s.Seed, Start: row.Time(s.Start), DisorderShare: float64(s.Disorder.Share), DisorderUpTo: s.Disorder.UpTo, AgainShare: float64(s.Again.Share),
		QuietField: s.Quiet.Field, QuietValue: s.Quiet.Value, QuietEvery: s.Quiet.Every, QuietFor: s.Quiet.For, Backlog: s.Quiet.Backlog, ByClock: o.ByClock}
	for _, m := range s.makers {
		for i := range o.Fields {
			if f := &o.Fields[i]; f.Name == m.Name || f.Column() == m.Name {
				m.Parse = f.Parse
			}
		}
		if m.Parse == codec.ByLayout { // no pattern is written: text that a source with a pattern cannot read
			m.Parse = codec.RFC3339
		}
		c.Makers = append(c.Makers, m)
	}
	return New(o.Name, c)
}

func (s *source) Open(_ context.Context, o connect.Opening) (connect.Opened, error) {
	return connect.Opened{Partitions: []engine.Partition{s.partition(o)}}, nil
}

// Sample makes the first events.
func (s *source) Sample(ctx context.Context, o connect.Opening, which connect.Sampling) (connect.Sample, error) {
	var out connect.Sample
	err := connect.Drain(ctx, s.partition(o), which.Rows, &out)
	return out, err
}

// Made makes the events of a source's settings, changed by whoever feeds them to others.
func Made(with connect.Source, o connect.Opening, change func(*Config)) (*Partition, error) {
	s, ok := with.(*source)
	if !ok {
		return nil, fmt.Errorf("source %s is not simulated", o.Name)
	}
	p := s.partition(o)
	change(&p.c)
	return p, nil
}
