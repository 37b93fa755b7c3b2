package codec

import "undertide/core/row"

// Times writes the timestamps of a column. Those of rows lie close to each other, and windows of one time are published together: so the text of the last one is
// kept, and of another one on the same day only the clock is made anew. One goroutine at a time.
type Times struct {
	text  [len("2026-01-01T00:00:00.000000Z")]byte
	n     int // bytes of text; 0 before the first
	last  row.Time
	begin row.Time // of the day
}

const (
	microsOfDay = 24 * 60 * 60 * 1_000_000
	dateBytes   = len("2026-01-01T")
)

// Append appends a timestamp as [row.AppendTime] does.
func (t *Times) Append(dst []byte, v row.Time) []byte {
	switch {
	case t.n > 0 && v == t.last:
	case v < row.FirstTime || v > row.LastTime:
		return row.AppendTime(dst, v)
	case t.n > 0 && v >= t.begin && v < t.begin+microsOfDay:
		t.clock(uint64(v - t.begin))
		t.last = v
	default:
		t.n = len(row.AppendTime(t.text[:0], v))
		if t.begin = v - v%microsOfDay; t.begin > v {
			t.begin -= microsOfDay
		}
		t.last = v
	}
	return append(dst, t.text[:t.n]...)
}

// clock writes the time of a day behind the date.
func (t *Times) clock(us uint64) {
	secs, micros := us/1_000_000, us%1_000_000
	b := t.text[dateBytes:]
	two(b[0:], secs/3600)
	b[2] = ':'
	two(b[3:], secs/60%60)
	b[5] = ':'
	two(b[6:], secs%60)
	n := 8
	if micros != 0 {
		b[8] = '.'
		two(b[9:], micros/10_000)
		two(b[11:], micros/100%100)
		two(b[13:], micros%100)
		for n = 15; b[n-1] == '0'; n-- {
		}
	}
	b[n] = 'Z'
	t.n = dateBytes + n + 1
}

func two(b []byte, v uint64) { b[0], b[1] = '0'+byte(v/10), '0'+byte(v%10) }
