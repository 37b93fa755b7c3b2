package step

import (
	"slices"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/state"
)

// Rank passes, of a windowed step's rows, the first of each window: those with the greatest By, nulls
// last, among equal ones by place (docs/job-document.md, "Steps"). Rows of a window come together as it
// closes, so they wait until the watermark has passed their time. Immutable.
type Rank struct {
	Keys Spec // `per`
	By   *expr.Program
	Keep int
}

// Spec implements [Keyed], as do the methods below.
func (d *Rank) Spec() *Spec            { return &d.Keys }
func (d *Rank) MainSchema() row.Schema { return d.Keys.Input }
func (d *Rank) LateSchema() row.Schema { return nil }
func (d *Rank) RejectsInLanes()        {}
func (d *Rank) Tables() []*state.Table { return []*state.Table{waitingTable(&d.Keys)} }
func (d *Rank) NewLane(o LaneOptions) Lane {
	l := &rankLane{def: d, dict: state.NewDict(), out: newMadeRows(d.Keys.Input, o.Ordered)}
	l.wait = newBuffer(&d.Keys, o, func() *state.Dict { return l.dict })
	return l
}

// rankLane keeps rows that the watermark has not passed.
type rankLane struct {
	def    *Rank
	dict   *state.Dict
	wait   *buffer
	counts LaneCounts
	out    madeRows
	group  []ranked
	key    []*row.Column
}

type ranked struct {
	row   int
	key   uint32
	value expr.Value
}

func (l *rankLane) Counts() *LaneCounts { return &l.counts }
func (l *rankLane) Held() Held {
	return Held{Keys: l.dict.Len(), Rows: l.wait.waits(), Bytes: l.dict.Bytes() + l.wait.bytes(), Next: l.wait.next()}
}

func (l *rankLane) Take(x *Exchange, lane int, _ *Turn, _ Out) {
	for _, j := range x.Lanes[lane] {
		r := x.Sel[j]
		l.wait.put(x, int(r), l.dict.Put(x.Keys.Bytes(int(j)), x.Keys.Hash[j]))
	}
}

// Move ranks the rows that the watermark has passed, those of one time and key together.
func (l *rankLane) Move(t *Turn, out Out) {
	for l.wait.ready(t.After) {
		at := l.wait.queue.next()
		place := t.Passed(at + 1)
		l.group = l.group[:0]
		for l.wait.queue.next() == at {
			_, r, key := l.wait.pop()
			v, err := l.def.By.Eval(l.wait.rows.Cols, r)
			if err != nil {
				one := row.NewBatch(l.def.Keys.Input)
				one.AppendFrom(l.wait.rows, r)
				one.Index = append(one.Index, place)
				out.Reject(ViewOf(one), Reject{Index: one.Index[0], Row: 0, Reason: Expression, Message: err.Error(), Expression: l.def.By.Text()})
				continue
			}
			l.counts.Used++
			l.group = append(l.group, ranked{r, key, v})
		}
		slices.SortStableFunc(l.group, func(a, b ranked) int {
			switch {
			case a.key != b.key:
				return int(a.key) - int(b.key)
			case a.value.Null || b.value.Null:
				return int(bit(a.value.Null)) - int(bit(b.value.Null))
			}
			return expr.Compare(b.value, a.value)
		})
		n := 0
		for i, g := range l.group {
			if i > 0 && l.group[i-1].key != g.key {
				n = 0
			}
			if n++; n <= l.def.Keep {
				l.give(g, at, uint64(n), place, out)
			}
		}
	}
	l.out.flush(out, &l.counts)
	l.wait.passed(t.After)
	if l.wait.waits() == 0 && l.dict.Len() > slack {
		l.dict = state.NewDict()
		l.wait.clear()
	}
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (l *rankLane) give(g ranked, at row.Time, n uint64, index uint16, out Out) {
	for c, col := range l.wait.rows.Cols {
		l.out.b.Cols[c].AppendFrom(col, g.row)
	}
	l.key = l.key[:0]
	for _, k := range l.def.Keys.Key {
		l.key = append(l.key, l.wait.rows.Cols[k])
	}
	if l.out.add(at, index, l.key, g.row, n); l.out.full() {
		l.out.flush(out, &l.counts)
	}
}

// Freeze copies the rows that began to wait.
func (l *rankLane) Freeze() []*state.Changes { return []*state.Changes{l.wait.freeze(l.dict)} }

// Bring implements [Lane].
func (l *rankLane) Bring(*Exchange, int, *Turn) {}

// Written implements [Lane].
func (l *rankLane) Written() { l.wait.written() }

// Shed lets go rows that wait.
func (l *rankLane) Shed() {
	if !l.wait.shed() {
		return
	}
	r := rekey(l.dict, l.wait.known)
	l.wait.tidy(r.to)
	l.dict = r.dict
}

// Load takes rows that wait.
func (l *rankLane) Load(_ int, r *state.Rows) error {
	l.wait.load(r, l.dict)
	return nil
}
