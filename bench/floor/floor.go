// Package floor holds the hand-written loops that the engine is compared with: the shortest Go that
// does the same job with the same JSON decoder, for one thread, without lateness, rejects,
// checkpoints or figures (docs/speed.md).
package floor

import (
	"bufio"
	"fmt"
	"io"
	"slices"
	"strconv"
	"time"

	"github.com/go-faster/jx"
)

// Event is one reading of the benchmarks' stream.
type Event struct {
	Gauge   string  `avro:"gauge" parquet:"gauge"`
	Level   float64 `avro:"level_m" parquet:"level_m"`
	Battery float64 `avro:"battery_v" parquet:"battery_v"`
	Seq     int64   `avro:"seq" parquet:"seq"`
	ReadAt  int64   `avro:"read_at" parquet:"read_at"` // epoch ms
}

// Decode reads an event; key points into line.
func Decode(d *jx.Decoder, line []byte, e *Event, key *[]byte) error {
	d.ResetBytes(line)
	return d.ObjBytes(func(d *jx.Decoder, k []byte) (err error) {
		switch string(k) {
		case "gauge":
			*key, err = d.StrBytes()
		case "level_m":
			e.Level, err = d.Float64()
		case "battery_v":
			e.Battery, err = d.Float64()
		case "seq":
			e.Seq, err = d.Int64()
		case "read_at":
			e.ReadAt, err = d.Int64()
		default:
			err = d.Skip()
		}
		return err
	})
}

// DecodeTimed does so where the time is RFC 3339 text, as sinks write it.
func DecodeTimed(d *jx.Decoder, line []byte, e *Event, key *[]byte) error {
	d.ResetBytes(line)
	return d.ObjBytes(func(d *jx.Decoder, k []byte) (err error) {
		switch string(k) {
		case "gauge":
			*key, err = d.StrBytes()
		case "read_at":
			var text []byte
			if text, err = d.StrBytes(); err == nil {
				var at time.Time
				err = at.UnmarshalText(text)
				e.ReadAt = at.UnixMilli()
			}
		default:
			err = d.Skip()
		}
		return err
	})
}

// Lines calls f for each line of r.
func Lines(r io.Reader, f func([]byte) error) error {
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 1<<20), 1<<20)
	for s.Scan() {
		if err := f(s.Bytes()); err != nil {
			return err
		}
	}
	return s.Err()
}

// acc is what the tumbling workload keeps for a key.
type acc struct {
	n        int64
	sum      float64
	greatest float64
}

// Tumbling keeps count, mean and greatest of a key's levels in windows of size ms, with a margin.
type Tumbling struct {
	Size, Margin int64
	windows      map[int64]map[string]*acc
	current      map[string]*acc
	start        int64
	greatest     int64
	nextEnd      int64
	Out          *bufio.Writer
	Rows         int64
	buf          []byte
}

// NewTumbling makes an empty one.
func NewTumbling(size, margin int64, out *bufio.Writer) *Tumbling {
	return &Tumbling{Size: size, Margin: margin, windows: map[int64]map[string]*acc{}, start: -1, nextEnd: 1 << 62, Out: out}
}

// Add takes one row.
func (t *Tumbling) Add(key []byte, level float64, at int64) {
	if at > t.greatest {
		t.greatest = at
		if at-t.Margin >= t.nextEnd {
			t.close(at - t.Margin)
		}
	}
	start := at - at%t.Size
	if start != t.start {
		t.start = start
		t.current = t.windows[start]
		if t.current == nil {
			t.current = map[string]*acc{}
			t.windows[start] = t.current
			t.nextEnd = min(t.nextEnd, start+t.Size)
		}
	}
	a := t.current[string(key)]
	if a == nil {
		a = &acc{greatest: level}
		t.current[string(key)] = a
	}
	a.n++
	a.sum += level
	a.greatest = max(a.greatest, level)
}

func (t *Tumbling) close(mark int64) {
	t.nextEnd = 1 << 62
	for start, keys := range t.windows {
		if start+t.Size > mark {
			t.nextEnd = min(t.nextEnd, start+t.Size)
			continue
		}
		for k, a := range keys {
			t.Rows++
			if t.Out != nil {
				t.write(k, start, a)
			}
		}
		delete(t.windows, start)
		if start == t.start {
			t.start = -1
		}
	}
}

// Finish closes everything.
func (t *Tumbling) Finish() { t.close(1 << 62) }

func (t *Tumbling) write(key string, start int64, a *acc) {
	b := append(t.buf[:0], `{"gauge":`...)
	b = strconv.AppendQuote(b, key)
	b = append(b, `,"window_start":"`...)
	b = time.UnixMilli(start).UTC().AppendFormat(b, time.RFC3339)
	b = append(b, `","window_end":"`...)
	b = time.UnixMilli(start+t.Size).UTC().AppendFormat(b, time.RFC3339)
	b = append(b, `","n":`...)
	b = strconv.AppendInt(b, a.n, 10)
	b = append(b, `,"mean_m":`...)
	b = strconv.AppendFloat(b, a.sum/float64(a.n), 'f', -1, 64)
	b = append(b, `,"greatest_m":`...)
	b = strconv.AppendFloat(b, a.greatest, 'f', -1, 64)
	b = append(b, "}\n"...)
	t.buf = b
	if _, err := t.Out.Write(b); err != nil {
		panic(fmt.Sprint("write: ", err))
	}
}

// Counts counts rows by key in one window that never closes before the end.
type Counts struct {
	m    map[string]*int64
	Rows int64
	Out  *bufio.Writer
}

// NewCounts makes an empty one.
func NewCounts(out *bufio.Writer) *Counts { return &Counts{m: map[string]*int64{}, Out: out} }

// Add takes one row.
func (c *Counts) Add(key []byte) {
	n := c.m[string(key)]
	if n == nil {
		n = new(int64)
		c.m[string(key)] = n
	}
	*n++
}

// Finish publishes all keys.
func (c *Counts) Finish() {
	var b []byte
	for k, n := range c.m {
		c.Rows++
		if c.Out == nil {
			continue
		}
		b = append(b[:0], `{"gauge":`...)
		b = strconv.AppendQuote(b, k)
		b = append(b, `,"window_start":"2026-01-01T00:00:00Z","window_end":"2026-12-31T00:00:00Z","n":`...)
		b = strconv.AppendInt(b, *n, 10)
		b = append(b, "}\n"...)
		if _, err := c.Out.Write(b); err != nil {
			panic(fmt.Sprint("write: ", err))
		}
	}
}

// Filter is the filter and compute workload's row: four expressions.
func Filter(level, battery float64, seq int64) (cm, drop float64, even bool, ok bool) {
	if !(level > 1.0 && battery > 11.5) {
		return 0, 0, false, false
	}
	cm = level * 100
	return cm, 12.6 - battery, seq%2 == 0, true
}

// AppendFiltered writes such a row as JSON.
func AppendFiltered(b, key []byte, level, battery float64, seq, at int64, cm, drop float64, even bool) []byte {
	b = append(b, `{"gauge":`...)
	b = strconv.AppendQuote(b, string(key))
	b = append(b, `,"level_m":`...)
	b = strconv.AppendFloat(b, level, 'f', -1, 64)
	b = append(b, `,"battery_v":`...)
	b = strconv.AppendFloat(b, battery, 'f', -1, 64)
	b = append(b, `,"seq":`...)
	b = strconv.AppendInt(b, seq, 10)
	b = append(b, `,"read_at":"`...)
	b = time.UnixMilli(at).UTC().AppendFormat(b, "2006-01-02T15:04:05.999Z07:00")
	b = append(b, `","cm":`...)
	b = strconv.AppendFloat(b, cm, 'f', -1, 64)
	b = append(b, `,"drop_v":`...)
	b = strconv.AppendFloat(b, drop, 'f', -1, 64)
	b = append(b, `,"even":`...)
	b = strconv.AppendBool(b, even)
	return append(b, "}\n"...)
}

// Sessions keeps count, mean and greatest of a key's levels between gaps of so many ms, with a margin.
type Sessions struct {
	Gap, Margin int64
	sessions    map[string]*session
	greatest    int64
	swept       int64
	Out         *bufio.Writer
	Rows        int64
	buf         []byte
}

type session struct {
	acc
	start, last int64
}

// NewSessions makes an empty one.
func NewSessions(gap, margin int64, out *bufio.Writer) *Sessions {
	return &Sessions{Gap: gap, Margin: margin, sessions: map[string]*session{}, Out: out}
}

// Add takes one row. Ended sessions are looked for now and then.
func (s *Sessions) Add(key []byte, level float64, at int64) {
	if at > s.greatest {
		s.greatest = at
		if mark := at - s.Margin; mark >= s.swept+s.Gap {
			s.swept = mark
			s.sweep(mark)
		}
	}
	a := s.sessions[string(key)]
	if a == nil {
		a = &session{acc: acc{greatest: level}, start: at, last: at}
		s.sessions[string(key)] = a
	} else if at >= a.last+s.Gap {
		s.give(string(key), a)
		*a = session{acc: acc{greatest: level}, start: at, last: at}
	}
	a.start, a.last = min(a.start, at), max(a.last, at)
	a.n++
	a.sum += level
	a.greatest = max(a.greatest, level)
}

func (s *Sessions) sweep(mark int64) {
	for k, a := range s.sessions {
		if a.last+s.Gap <= mark {
			s.give(k, a)
			delete(s.sessions, k)
		}
	}
}

// Finish ends all sessions.
func (s *Sessions) Finish() { s.sweep(1 << 62) }

func (s *Sessions) give(key string, a *session) {
	s.Rows++
	if s.Out == nil {
		return
	}
	b := append(s.buf[:0], `{"gauge":"`...)
	b = append(b, key...)
	b = append(b, `","window_start":"`...)
	b = time.UnixMilli(a.start).UTC().AppendFormat(b, time.RFC3339Nano)
	b = append(b, `","window_end":"`...)
	b = time.UnixMilli(a.last+s.Gap).UTC().AppendFormat(b, time.RFC3339Nano)
	b = append(b, `","n":`...)
	b = strconv.AppendInt(b, a.n, 10)
	b = append(b, `,"mean_m":`...)
	b = strconv.AppendFloat(b, a.sum/float64(a.n), 'f', -1, 64)
	b = append(b, `,"greatest_m":`...)
	b = strconv.AppendFloat(b, a.greatest, 'f', -1, 64)
	s.buf = append(b, '}', '\n')
	s.Out.Write(s.buf) // the error stays with the writer, whose Flush is checked
}

// Firsts passes the first row of each key.
type Firsts struct {
	seen map[string]int64
	Out  *bufio.Writer
	Rows int64
	buf  []byte
}

// NewFirsts makes an empty one.
func NewFirsts(out *bufio.Writer) *Firsts { return &Firsts{seen: map[string]int64{}, Out: out} }

// Add takes one row.
func (f *Firsts) Add(key []byte, at int64) {
	if _, ok := f.seen[string(key)]; ok {
		return
	}
	f.seen[string(key)] = at
	f.Rows++
	if f.Out != nil {
		f.buf = append(append(append(f.buf[:0], `{"gauge":"`...), key...), '"', '}', '\n')
		f.Out.Write(f.buf) // the error stays with the writer, whose Flush is checked
	}
}

// Join pairs rows of two sides with an equal key that are at most so far apart.
type Join struct {
	within, margin int64
	greatest       int64
	keys           map[string]*waiting
	Out            *bufio.Writer
	Rows           int64
	buf            []byte
}

// waiting are the rows of a key that may still meet a partner, by side, in order of arrival.
type waiting [2][]waitingRow

type waitingRow struct {
	level float64
	at    int64
}

// NewJoin makes a join; out may be nil.
func NewJoin(within, margin int64, out *bufio.Writer) *Join {
	return &Join{within: within, margin: margin, keys: map[string]*waiting{}, Out: out}
}

// Add takes a row of side 0 or 1.
func (j *Join) Add(key []byte, side int, level float64, at int64) {
	j.greatest = max(j.greatest, at)
	w := j.keys[string(key)]
	if w == nil {
		w = &waiting{}
		j.keys[string(key)] = w
	}
	for n := range w { // what the watermark has passed meets none any more
		for len(w[n]) > 0 && w[n][0].at+j.within < j.greatest-j.margin {
			w[n] = w[n][1:]
		}
	}
	for _, p := range w[1-side] {
		if p.at-at <= j.within && at-p.at <= j.within {
			left, right := level, p.level
			if side == 1 {
				left, right = right, left
			}
			j.write(key, left, right)
		}
	}
	w[side] = append(w[side], waitingRow{level, at})
}

func (j *Join) write(key []byte, left, right float64) {
	j.Rows++
	if j.Out == nil {
		return
	}
	b := append(j.buf[:0], `{"gauge":"`...)
	b = append(b, key...)
	b = strconv.AppendFloat(append(b, `","readings_level_m":`...), left, 'f', -1, 64)
	b = strconv.AppendFloat(append(b, `,"others_level_m":`...), right, 'f', -1, 64)
	j.buf = append(b, "}\n"...)
	j.Out.Write(j.buf) // the error stays with the writer, whose Flush is checked
}

// Minutes counts the rows of each key and minute, over partitions that are each about in order: a minute is given out when all of them have passed it by
// the margin.
type Minutes struct {
	Margin   int64
	Give     func(key string, start, n int64)
	greatest []int64 // by partition
	windows  map[int64]map[string]*int64
	passed   int64
}

const minute = 60_000 // ms

// NewMinutes makes an empty one over so many partitions.
func NewMinutes(partitions int, margin int64, give func(key string, start, n int64)) *Minutes {
	return &Minutes{Margin: margin, Give: give, greatest: make([]int64, partitions), windows: map[int64]map[string]*int64{}}
}

// Add takes one row.
func (m *Minutes) Add(partition int, key []byte, at int64) {
	if at > m.greatest[partition] {
		m.greatest[partition] = at
		if mark := slices.Min(m.greatest) - m.Margin; mark >= m.passed+minute {
			m.close(mark)
		}
	}
	start := at - at%minute
	counts := m.windows[start]
	if counts == nil {
		counts = map[string]*int64{}
		m.windows[start] = counts
	}
	n := counts[string(key)]
	if n == nil {
		n = new(int64)
		counts[string(key)] = n
	}
	*n++
}

func (m *Minutes) close(mark int64) {
	m.passed = mark - mark%minute
	for start, counts := range m.windows {
		if start+minute > mark {
			continue
		}
		for key, n := range counts {
			m.Give(key, start, *n)
		}
		delete(m.windows, start)
	}
}

// Finish closes everything.
func (m *Minutes) Finish() { m.close(1 << 62) }
