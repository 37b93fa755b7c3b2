package look

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"undertide/core/row"
)

// Lateness tells how late events come, and what margins would lose and cost (docs/streams.md, "Lateness and the margin").
type Lateness struct {
	Events     int     `json:"events"` // with an event time
	OutOfOrder int     `json:"out_of_order"`
	Typical    float64 `json:"typical_seconds"` // median of those out of order, behind the greatest time before them
	P99        float64 `json:"p99_seconds"`     // of all events
	Most       float64 `json:"most_seconds"`
	// Delay is the median age of the newest event times when they are stored; null where stored times
	// tell nothing.
	Delay   *float64     `json:"delay_seconds"`
	Margins []MarginLine `json:"margins"`
	// Proposed is the least of the margins that loses under one event in a thousand of the sample.
	Proposed float64 `json:"proposed_seconds"`
	// Current is the document's; null where there is none.
	Current *float64 `json:"current_seconds"`
	// Behind are keys most of whose events come late: a slow clock, a slow sender.
	Behind []BehindKey `json:"behind"`
	// Points are event times against arrival, at most a thousand, for a chart.
	Points []Point `json:"points"`
}

// MarginLine is what a margin does.
type MarginLine struct {
	Margin float64 `json:"margin_seconds"`
	// Late are events behind the watermark: of a windowed step the most that could be lost.
	Late  int     `json:"late"`
	Ratio float64 `json:"ratio"`
	// Lost is what a step's windows would lose; null without one.
	Lost *int `json:"lost"`
	// Wait is how long after a window's end its result appears, about: margin and delay.
	Wait    float64 `json:"wait_seconds"`
	Current bool    `json:"current"`
}

// BehindKey is a key whose events come late as a rule.
type BehindKey struct {
	Key    string  `json:"key"`
	Events int     `json:"events"`
	Median float64 `json:"median_seconds"`
	Most   float64 `json:"most_seconds"`
}

// Point is an event in a chart of event time against arrival.
type Point struct {
	Arrival int     `json:"arrival"` // its number in the sample
	At      string  `json:"at"`      // its event time
	Behind  float64 `json:"behind_seconds"`
}

// Timed is an event of a sample with its event time.
type Timed struct {
	Partition string
	At        row.Time
	Stored    time.Time // zero for none
	Key       string    // what lateness is told apart by; empty for nothing
}

// Steps of margins that people choose.
var margins = []time.Duration{0, time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 15 * time.Second, 20 * time.Second, 30 * time.Second, 45 * time.Second, time.Minute,
	90 * time.Second, 2 * time.Minute, 3 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 6 * time.Hour, 12 * time.Hour, 24 * time.Hour}

// LatenessOf tells how late events of a sample come, in the order in which they are given, which is that
// of their arrival. An event is behind by the greatest event time that its partition gave before it, less
// its own; with a margin m it is late where that is more than m (docs/time.md, "Watermarks": other
// partitions can only hold the watermark back further). current is the margin in use, negative for none.
// end gives the end of the last window that a time is in; nil where there is no windowed step.
func LatenessOf(events []Timed, current time.Duration, end func(row.Time) row.Time) Lateness {
	out := Lateness{Events: len(events), Margins: []MarginLine{}, Behind: []BehindKey{}, Points: []Point{}}
	greatest := map[string]row.Time{}
	behind := make([]time.Duration, len(events))
	before := make([]row.Time, len(events))
	byKey := map[string][]time.Duration{}
	var late, delays []time.Duration
	for i, e := range events {
		g, some := greatest[e.Partition]
		before[i] = row.MinTime
		if some {
			before[i] = g
		}
		if some && e.At < g {
			behind[i] = time.Duration(g-e.At) * time.Microsecond
			late = append(late, behind[i])
		} else {
			greatest[e.Partition] = e.At
			if !e.Stored.IsZero() {
				delays = append(delays, time.Duration(row.TimeOf(e.Stored)-e.At)*time.Microsecond)
			}
		}
		if e.Key != "" {
			byKey[e.Key] = append(byKey[e.Key], behind[i])
		}
	}
	delays = delays[len(delays)*9/10:] // the newest: earlier ones may have waited for whoever sent them
	sorted := slices.Clone(behind)
	slices.Sort(sorted)
	slices.Sort(late)
	slices.Sort(delays)
	out.OutOfOrder = len(late)
	if len(late) > 0 {
		out.Typical, out.Most = late[len(late)/2].Seconds(), late[len(late)-1].Seconds()
	}
	if len(sorted) > 0 {
		out.P99 = sorted[(len(sorted)-1)*99/100].Seconds()
	}
	delay := time.Duration(0)
	if len(delays) > 0 {
		// Events that were stored in one go long after they happened tell nothing of the delay.
		if d := delays[len(delays)/2]; d > -time.Minute && d < 10*time.Minute {
			delay = max(0, d)
			s := delay.Seconds()
			out.Delay = &s
		}
	}
	count := func(m time.Duration) (n int) {
		at, _ := slices.BinarySearch(sorted, m+1)
		return len(sorted) - at
	}
	proposed := margins[len(margins)-1]
	for _, m := range margins {
		if count(m)*1000 < len(sorted) || len(sorted) == 0 {
			proposed = m
			break
		}
	}
	if proposed == 0 && len(late) == 0 {
		proposed = time.Second // a sample in order does not promise order
	}
	out.Proposed = proposed.Seconds()
	list := slices.Clone(margins)
	if current >= 0 {
		s := current.Seconds()
		out.Current = &s
		if _, there := slices.BinarySearch(list, current); !there {
			list = append(list, current)
			slices.Sort(list)
		}
	}
	for _, m := range list {
		n := count(m)
		if m > max(proposed, current) && n == 0 && m > 2*max(proposed, current) {
			break
		}
		line := MarginLine{Margin: m.Seconds(), Late: n, Wait: (m + delay).Seconds(), Current: current == m}
		if len(events) > 0 {
			line.Ratio = float64(n) / float64(len(events))
		}
		if end != nil {
			lost := 0
			for i, e := range events {
				if before[i] != row.MinTime && behind[i] > m && end(e.At) <= before[i].Minus(m) {
					lost++
				}
			}
			line.Lost = &lost
		}
		out.Margins = append(out.Margins, line)
	}
	for k, list := range byKey {
		slices.Sort(list)
		if m := list[len(list)/2]; len(list) >= 5 && m > time.Second {
			out.Behind = append(out.Behind, BehindKey{k, len(list), m.Seconds(), list[len(list)-1].Seconds()})
		}
	}
	slices.SortFunc(out.Behind, func(a, b BehindKey) int {
		return cmp.Or(cmp.Compare(b.Median, a.Median), cmp.Compare(a.Key, b.Key))
	})
	out.Behind = out.Behind[:min(5, len(out.Behind))]
	every := max(1, len(events)/1000)
	for i, e := range events {
		if i%every == 0 || behind[i] > proposed {
			out.Points = append(out.Points, Point{i, e.At.String(), behind[i].Seconds()})
		}
	}
	return out
}

// Words tells in a sentence or two how late events come.
func (l Lateness) Words() string {
	switch {
	case l.Events == 0:
		return "no event of the sample has an event time"
	case l.OutOfOrder == 0:
		return fmt.Sprintf("%d events, all in order", l.Events)
	}
	text := fmt.Sprintf("%d of %d events came out of order, half of them by up to %s, the latest by %s", l.OutOfOrder, l.Events, seconds(l.Typical), seconds(l.Most))
	for _, m := range l.Margins {
		if m.Margin == l.Proposed && m.Late > 0 {
			text += fmt.Sprintf("; with a margin of %s %d of them would be behind the watermark", seconds(m.Margin), m.Late)
		} else if m.Margin == l.Proposed {
			text += fmt.Sprintf("; a margin of %s loses none of them", seconds(m.Margin))
		}
	}
	if len(l.Behind) > 0 {
		b := l.Behind[0]
		text += fmt.Sprintf("; %s comes %s behind as a rule: a slow clock or sender", b.Key, seconds(b.Median))
	}
	return text
}

func seconds(s float64) string { return span(time.Duration(s * float64(time.Second))) }
