package try

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// Met is a pair of a join: the moments of its rows, and their times. It was made at the later moment.
type Met struct {
	Step      string `json:"step"`
	Key       string `json:"key"`
	Left      int    `json:"left"`
	Right     int    `json:"right"`
	LeftTime  string `json:"left_time"`
	RightTime string `json:"right_time"`
}

// Reach is a row of a join, and the times that its partners may have, both included.
type Reach struct {
	Step   string `json:"step"`
	Key    string `json:"key"`
	Side   string `json:"side"` // left, right
	Moment int    `json:"moment"`
	Time   string `json:"time"`
	From   string `json:"from"`
	To     string `json:"to"`
	// Late says that it came too late to be paired.
	Late bool `json:"late"`
}

// joinSeen is a row that came to a join.
type joinSeen struct {
	side, moment int
	key          string
	at           row.Time
	late         bool
}

// joinPlay gathers the rows that come to a join.
type joinPlay struct {
	name string
	def  *step.Join
	now  []joinSeen // of this moment
	all  []joinSeen
}

// joinTaps listens to what joins read.
func (w *player) joinTaps() {
	for i := range w.j.Steps {
		s := &w.j.Steps[i]
		d, ok := s.Keyed.(*step.Join)
		if !ok || d.Window != nil {
			continue
		}
		p := &joinPlay{name: s.Name, def: d}
		w.joins = append(w.joins, p)
		for _, in := range s.From {
			w.g.Taps = append(w.g.Taps, engine.TapNode{From: in.Ref, Schema: w.g.SchemaOf(in.Ref), Tap: heard{sideText{in, d}, func(line []byte) {
				side, rest, _ := strings.Cut(string(line), " ")
				at, key, _ := strings.Cut(rest, " ")
				us, err := strconv.ParseInt(at, 10, 64)
				if text := ""; err == nil && json.Unmarshal([]byte(key), &text) == nil {
					p.now = append(p.now, joinSeen{side: slices.Index(step.Sides[:], side), key: text, at: row.Time(us)})
				}
			}}})
		}
	}
}

// sideText writes a row of a join as its side, its time in microseconds and its key.
type sideText struct {
	in  engine.Input
	def *step.Join
}

func (x sideText) Append(dst []byte, v step.View) []byte {
	v = x.in.Arrange(v)
	for _, r := range v.Sel {
		dst = append(append(dst, v.Cols[len(v.Cols)-1].Bytes(int(r))...), ' ')
		dst = append(strconv.AppendInt(dst, int64(v.Times[r]), 10), ' ')
		key := ""
		if !nullKey(v.Cols, x.def.Keys.Key, int(r)) {
			key = keyAt(v.Cols, x.def.Keys.Key, int(r))
		}
		text, _ := json.Marshal(key) // a text
		dst = append(append(dst, text...), '\n')
	}
	return dst
}

// joinStepped ends a moment: which of its rows are late is told by `late of`.
func (p *joinPlay) joinStepped(moment int, rows []PlayedRow) {
	for _, r := range rows {
		var late struct{ Side string }
		if r.Part != "late of "+p.name || json.Unmarshal(r.Row, &late) != nil {
			continue
		}
		for i := range p.now {
			if s := &p.now[i]; step.Sides[s.side] == late.Side && !s.late {
				s.late = true
				break
			}
		}
	}
	for i := range p.now {
		p.now[i].moment = moment
	}
	p.all, p.now = append(p.all, p.now...), p.now[:0]
}

// met gives the pairs of all joins, and how far each row reaches.
func (w *player) met() {
	for _, p := range w.joins {
		for i, s := range p.all {
			if s.key == "" {
				continue // null matches nothing
			}
			from, to := p.def.From, p.def.To
			if s.side == step.RightSide {
				from, to = -p.def.To, -p.def.From
			}
			w.out.Reaches = append(w.out.Reaches, Reach{Step: p.name, Key: s.key, Side: step.Sides[s.side], Moment: s.moment, Time: s.at.String(), From: s.at.Plus(from).String(), To: s.at.Plus(to).String(), Late: s.late})
			for _, o := range p.all[:i] {
				left, right := o, s
				if s.side == step.LeftSide {
					left, right = s, o
				}
				if o.side != s.side && o.key == s.key && !o.late && !s.late && p.def.Partners(left.at, right.at) {
					w.out.Pairs = append(w.out.Pairs, Met{Step: p.name, Key: s.key, Left: left.moment, Right: right.moment, LeftTime: left.at.String(), RightTime: right.at.String()})
				}
			}
		}
	}
}
