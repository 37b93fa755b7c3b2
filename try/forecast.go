package try

import (
	"math"
	"math/bits"
	"time"

	"undertide/core/row"
	"undertide/core/state"
	"undertide/job"
	"undertide/run"
)

// Forecast is how much a step will keep once as much goes as comes, judged by a sample.
type Forecast struct {
	// Rows of state, and their bytes, about.
	Rows  int64 `json:"rows"`
	Bytes int64 `json:"bytes"`
	// Bound says what bounds it.
	Bound string `json:"bound"`
}

// growth is how many keys there were after 1, 2, 4, 8 … rows.
type growth []int64

func (g *growth) see(rows, keys int64) {
	if bits.OnesCount64(uint64(rows)) == 1 {
		*g = append(*g, keys)
	}
}

// keys gives about how many keys so many rows have, of all of which there are keys now. Within the sample it goes by what
// was seen. Beyond, keys grow by a power of the rows (Heaps' law), the one by which they grew over the last doubling: 1000
// rows with 300 keys, of which the first 500 had 200, make 300 * 2^log2(300/200) = 450 of 2000 rows.
func (g growth) keys(rows float64, all, now int64) float64 {
	if rows <= 1 || all <= 1 || len(g) == 0 {
		return math.Min(rows, float64(now))
	}
	if rows < float64(all) {
		at := math.Log2(rows)
		low := min(int(at), len(g)-1)
		from, to, span := float64(g[low]), float64(now), float64(all)-math.Exp2(float64(low))
		if low+1 < len(g) {
			to, span = float64(g[low+1]), math.Exp2(float64(low))
		}
		if span <= 0 {
			return from
		}
		return from + (to-from)*(rows-math.Exp2(float64(low)))/span
	}
	half := g.keys(float64(all)/2, all, now)
	power := math.Max(0, math.Min(1, math.Log2(float64(now)/math.Max(1, half))))
	return float64(now) * math.Pow(rows/float64(all), power)
}

// forecast judges how much a step will keep; nil where the sample does not say.
func (r *rehearser) forecast(s *job.Step, k *keyCounter, span time.Duration) *Forecast {
	bound, keeps := r.j.Bound(s)
	if !keeps || bound.For == 0 || k.all < 20 || span <= 0 {
		return nil
	}
	most := bound.For
	pace := float64(k.all) / span.Seconds()
	now := int64(len(k.of))
	rows := 0.0
	switch {
	case bound.Each:
		rows = pace * most.Seconds()
	case bound.Span > 0: // each window or slice has keys of its own
		rows = k.growth.keys(pace*bound.Span.Seconds(), k.all, now) * most.Seconds() / bound.Span.Seconds()
	default:
		rows = k.growth.keys(pace*most.Seconds(), k.all, now)
	}
	f := &Forecast{Bound: bound.Text, Rows: int64(math.Ceil(rows))}
	f.Bytes = f.Rows * int64(k.keyBytes()+rowBytes(s.Keyed.Tables()[0]))
	return f
}

// keyBytes is how long keys are on the average, as they are kept.
func (k *keyCounter) keyBytes() int {
	n := 0
	for key := range k.of {
		n += len(key)
	}
	return n/max(1, len(k.of)) + 9*len(k.spec.Key)
}

// rowBytes is about what a row of a table takes beside its key.
func rowBytes(t *state.Table) int {
	n := 24 // its place in the dictionary, and what is noted of changes
	for _, f := range t.Columns {
		switch f.Kind {
		case row.Bool:
			n++
		case row.Bytes, row.String:
			n += 64
		default:
			n += 8
		}
	}
	return n
}

// warnForecast warns of more than the memory holds.
func warnForecast(j *job.Job, s *job.Step, f *Forecast, say warner) {
	if most := run.StateMemoryOf(j)(); f != nil && most > 0 && f.Bytes > most {
		say(s.Name, "that is right where it is meant: it costs speed and disk; else a shorter window, or settings: {memory: …}", "it will keep about %d MiB of state, more than the %d MiB that lanes may hold in memory: the rest lies on the disk", f.Bytes>>20, most>>20)
	}
}
