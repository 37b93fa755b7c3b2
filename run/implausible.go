package run

import (
	"fmt"
	"time"

	"undertide/core/engine"
	"undertide/core/row"
)

// UnitDoubt is a time before which nobody's events are: a unit was mistaken.
var UnitDoubt = row.TimeOf(time.Date(1990, 1, 1, 0, 0, 0, 0, time.UTC))

// Implausible says which sources had event times that nobody's events have, and what to do about it; a line each.
func Implausible(g *engine.Graph, f engine.Figures, now time.Time) (out []string) {
	for i := range g.Sources {
		s := &g.Sources[i]
		greatest := row.MinTime
		for _, p := range f.Partitions {
			if p.Source == s.Name {
				greatest = max(greatest, p.Greatest)
			}
		}
		switch {
		case !s.Timed() || s.Arrival || s.Carried || greatest == row.MinTime:
		case greatest < UnitDoubt:
			out = append(out, fmt.Sprintf("source %s: the newest event time is %s: the unit of the event time is mistaken; seconds were perhaps read as milliseconds: say parse: epoch_s, or the unit it is", s.Name, greatest))
		case greatest > row.TimeOf(now.Add(24*time.Hour)):
			out = append(out, fmt.Sprintf("source %s: the newest event time is %s, which lies in the future: it holds the watermark up to there, and others are late; check the clock that wrote it, or the unit of parse", s.Name, greatest))
		}
	}
	return out
}
