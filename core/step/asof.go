package step

import (
	"fmt"
	"slices"
	"sort"
	"sync/atomic"
	"time"

	"undertide/core/row"
	"undertide/core/state"
)

// AsOf looks rows up in a reference as it held at their own times (docs/time.md, "Lookup as of event time"). Immutable.
//
// Rows and versions come as rows of one schema, as those of a [Join] do: the fields of the result, and a last one that names
// the side, left for rows and right for versions. A version has its columns and the key, a row all but the columns.
type AsOf struct {
	// Keys has the result's fields and the side's as input, and as key the fields that are matched.
	Keys      Spec
	Fields    int // so many of the result's fields are the row's; the columns follow
	Reference string
	Missing   Unfound
	Misses    *Misses // of a run
	// Keep is how far behind the watermark rows are still looked up rightly: older versions are dropped.
	Keep time.Duration
	// Limit bounds the bytes of the versions of all lanes; 0 for no bound. Size counts them in a run; nil where nobody does.
	Limit int64
	Size  *atomic.Int64
	// Then is carried out on the result; nil for nothing.
	Then *Stateless
}

// Spec implements [Keyed], as do the methods below.
func (d *AsOf) Spec() *Spec { return &d.Keys }
func (d *AsOf) MainSchema() row.Schema {
	if d.Then != nil {
		return d.Then.Schema
	}
	return d.result()
}
func (d *AsOf) LateSchema() row.Schema { return lateSchema(d.Keys.Input[:d.Fields:d.Fields]) }

// RejectsInLanes implements [LaneRejecter].
func (d *AsOf) RejectsInLanes() {}

func (d *AsOf) result() row.Schema {
	n := len(d.Keys.Input) - 1
	return d.Keys.Input[:n:n]
}

// Tables are the versions, and the rows that wait.
func (d *AsOf) Tables() []*state.Table {
	t := &state.Table{Key: d.Keys.KeySchema(), Rest: row.Schema{{Name: "since", Kind: row.Timestamp}, {Name: "place", Kind: row.Int}}}
	for _, f := range d.result()[d.Fields:] {
		t.Columns = append(t.Columns, row.Field{Name: "row_" + f.Name, Kind: f.Kind})
	}
	return []*state.Table{t, waitingTable(&d.Keys)}
}

// NewLane implements [Keyed].
func (d *AsOf) NewLane(o LaneOptions) Lane {
	result := d.result()
	l := &asOfLane{def: d, keep: row.Time(d.Keep.Microseconds()), keeps: o.Keeps, table: d.Tables()[0], dict: state.NewDict(), cols: row.NewBatch(result[d.Fields:]),
		out: newMadeRows(result, o.Ordered), late: newLateRows(d.Keys.Input[:d.Fields]), wrong: row.NewBatch(d.Keys.Input)}
	l.next, l.fail = state.NewChanges(l.table), o.Fail
	l.wait = newBuffer(&d.Keys, o, func() *state.Dict { return l.dict })
	l.then = newThen(d.Then)
	return l
}

// version is a row of the reference from a time on. Those of a key stand in the order of since, one for each time: of equal
// ones the later place counts.
type version struct {
	since  row.Time
	place  int64
	at     uint32 // its row in cols
	stored bool   // a mark has it
}

// newest is the last of a key's versions, which most rows find: since when it holds, and its row in cols, and 1; 0 for none.
type newest struct {
	since row.Time
	at    uint32
}

// asOfLane keeps the versions of each key, and the rows that the watermark has not passed.
//
// With versions since 10 and 20, and W at 15: a row of 12 finds the first, a row of 17 waits until W is beyond 17, since a
// version since 16 may still come; a row of 9 finds none. The first is dropped once W - keep has reached 20.
type asOfLane struct {
	def   *AsOf
	keep  row.Time
	keeps bool

	dict     *state.Dict // keys of versions, and of rows that wait
	versions [][]version // by key
	newest   []newest    // by key: of its versions
	held     int         // keys with versions; they stay
	cols     *row.Batch  // columns of versions
	dead     int         // rows of cols that no version has
	place    int64       // of the version that came last
	size     int64       // bytes of versions that Size was told of
	fail     func(error)
	due      queue // keys that have a version to drop
	table    *state.Table
	next     *state.Changes
	fresh    []uint32 // keys with versions that no mark has; some twice

	waits       []int32  // rows that are to wait; they are put together, at the latest before one of them may be asked for
	waitIDs     []uint32 // their keys
	left, right []int32  // by row that is given: its row, and its version's

	found  []foundRow
	some   []passedRow
	ids    []uint32 // by row of Take: its key
	hits   []int    // by row of some: what is found
	wait   *buffer
	counts LaneCounts
	out    madeRows
	late   lateRows
	wrong  *row.Batch
	then   thenRun
	key    []*row.Column
}

func (l *asOfLane) Counts() *LaneCounts { return &l.counts }

// Held implements [Lane].
func (l *asOfLane) Held() Held {
	h := Held{Keys: l.held, Rows: l.cols.N - l.dead + l.wait.waits(), Bytes: l.dict.Bytes() + l.wait.bytes() + 24*cap(l.versions) + queuedBytes*cap(l.due) + 4*cap(l.fresh), Next: min(l.wait.next(), l.due.next())}
	h.Bytes += 24 * l.cols.N
	for _, c := range l.cols.Cols {
		h.Bytes += 8*(cap(c.I)+cap(c.F)) + 4*cap(c.Off) + cap(c.Data)
	}
	return h
}

// Take notes versions, looks up rows that are behind the watermark, and lets the others wait.
func (l *asOfLane) Take(x *Exchange, lane int, t *Turn, out Out) {
	side := x.Cols[len(x.Cols)-1]
	l.ids = l.dict.PutAll(&x.Keys, x.Lanes[lane], l.ids[:0])
	l.grow()
	for n, j := range x.Lanes[lane] {
		r, id := int(x.Sel[j]), l.ids[n]
		at, mark := x.Times[r], t.Marks[x.Index[r]]
		switch {
		case side.Bytes(r)[0] == Sides[RightSide][0]:
			if at < mark { // rows that the watermark had passed before do not see it, wherever turns end
				l.keepWaiting(x)
				l.passed(mark, t, out)
			}
			if l.take(x, r, id, out) && at < mark {
				l.counts.Accepted++
			}
		case at < mark.Minus(l.def.Keep):
			l.lose(x, r, mark)
		case at < mark:
			l.look(x.Cols, r, at, id, rowPlace{index: x.Index[r], order: x.order(r)}, out)
		default:
			l.waits, l.waitIDs = append(l.waits, int32(r)), append(l.waitIDs, id)
		}
	}
	l.keepWaiting(x)
	l.late.flush(out)
	l.flush(out)
}

// keepWaiting puts the rows of x that are to wait.
func (l *asOfLane) keepWaiting(x *Exchange) {
	l.wait.putAll(x, l.waits, l.waitIDs)
	l.waits, l.waitIDs = l.waits[:0], l.waitIDs[:0]
}

// versionBytes is about what a version takes beside its columns.
const versionBytes = 32

// weigh tells how much the versions take, and ends the run where that is too much.
func (l *asOfLane) weigh() {
	if l.def.Size == nil {
		return
	}
	size := int64(l.cols.Bytes() + versionBytes*l.cols.N)
	all := l.def.Size.Add(size - l.size)
	if l.size = size; l.def.Limit > 0 && all > l.def.Limit && l.fail != nil {
		l.fail(fmt.Errorf("reference %s: the versions of %s take more than its limit of %d KiB; raise limit:, give it a shorter keep, or add fewer fields", l.def.Reference, row.DurationText(l.def.Keep), l.def.Limit>>10))
	}
}

// lose counts a row whose version may be gone.
func (l *asOfLane) lose(x *Exchange, r int, mark row.Time) {
	own := *x
	own.Cols = x.Cols[:l.def.Fields]
	l.late.add(&own, r, mark, &l.counts)
}

// take notes a version; false for one without a key, which is rejected.
func (l *asOfLane) take(x *Exchange, r int, id uint32, out Out) bool {
	if at := l.null(x.Cols, r); at >= 0 {
		l.refuse(x.Cols, r, x.Times[r], Reject{Index: x.Index[r], Reason: NullKey, Message: "a row of reference " + l.def.Reference + " has no " + l.def.Keys.Input[l.def.Keys.Key[at]].Name + ", which is its key"}, out)
		return false
	}
	l.counts.Used++
	l.place++
	for i, c := range l.cols.Cols {
		c.AppendFrom(x.Cols[l.def.Fields+i], r)
	}
	l.cols.N++
	l.insert(id, version{since: x.Times[r], place: l.place, at: uint32(l.cols.N - 1)})
	if l.keeps {
		l.fresh = append(l.fresh, id)
	}
	l.tidy()
	return true
}

// grow makes room for all keys.
func (l *asOfLane) grow() {
	for len(l.versions) < l.dict.Len() {
		l.versions, l.newest = append(l.versions, nil), append(l.newest, newest{})
	}
}

// insert puts a version where its time belongs, in place of one of the same time.
func (l *asOfLane) insert(id uint32, v version) {
	list := l.versions[id]
	at := len(list)
	for at > 0 && list[at-1].since > v.since {
		at--
	}
	if at > 0 && list[at-1].since == v.since {
		at--
		l.gone(id, list[at])
		list[at] = v
		l.note(id)
		return
	}
	if len(list) == 0 {
		l.held++
	}
	list = slices.Insert(list, at, v)
	l.versions[id] = list
	l.note(id)
	for _, later := range list[max(at, 1):min(at+2, len(list))] { // what is before them goes once they are old enough
		l.due.push(beyond(later.since, l.keep), id)
	}
}

// note keeps a key's newest version at hand.
func (l *asOfLane) note(id uint32) {
	v := l.versions[id][len(l.versions[id])-1]
	l.newest[id] = newest{v.since, v.at + 1}
}

// gone lets a version go.
func (l *asOfLane) gone(id uint32, v version) {
	l.dead++
	if v.stored {
		l.next.Drop(l.dict.Key(id), l.dict.Hash(id), 0, int64(v.since), v.place)
	}
}

// prune drops the versions of a key that no row in time can find.
func (l *asOfLane) prune(id uint32, w row.Time) {
	list := l.versions[id]
	n := 0
	for n+1 < len(list) && beyond(list[n+1].since, l.keep) <= w {
		l.gone(id, list[n])
		n++
	}
	l.versions[id] = slices.Delete(list, 0, n)
}

// tidy makes the columns anew once most of their rows are dead.
func (l *asOfLane) tidy() {
	if l.dead < 4096 || l.dead < l.cols.N/2 {
		return
	}
	next := row.NewBatch(l.cols.Schema)
	for id := range l.versions {
		for i := range l.versions[id] {
			v := &l.versions[id][i]
			next.AppendFrom(l.cols, int(v.at))
			v.at = uint32(next.N - 1)
		}
		if len(l.versions[id]) > 0 {
			l.note(uint32(id))
		}
	}
	l.cols, l.dead = next, 0
}

// null gives the place of the first key field that is null in a row; -1 for none.
func (l *asOfLane) null(cols []*row.Column, r int) int {
	return slices.IndexFunc(l.def.Keys.Key, func(k int) bool { return cols[k].IsNull(r) })
}

// find gives the row of cols that holds at a time for a key; noVersion where there is none.
func (l *asOfLane) find(id uint32, at row.Time) int {
	if int(id) >= len(l.versions) {
		return noVersion // its key came with a row that was fetched
	}
	if n := l.newest[id]; n.at > 0 && at >= n.since {
		return int(n.at - 1)
	}
	list := l.versions[id]
	n := len(list)
	if n > 0 && list[n-1].since > at {
		n = sort.Search(n, func(i int) bool { return list[i].since > at })
	}
	if n == 0 {
		return noVersion
	}
	return int(list[n-1].at)
}

// foundRow is a row that is looked up, and the row of the versions' columns that it gets; none where it was not found.
type foundRow struct {
	r     int
	at    row.Time
	v     int
	place rowPlace
}

const noVersion = row.NoRow

// look looks up one row and publishes it with the columns that held at its time.
func (l *asOfLane) look(cols []*row.Column, r int, at row.Time, id uint32, place rowPlace, out Out) {
	v := l.find(id, at)
	if l.counted(cols, r, at, v, place, out) {
		l.give(cols, append(l.found[:0], foundRow{r, at, v, place}), out)
	}
}

// counted counts what became of a row, and says whether it goes on.
func (l *asOfLane) counted(cols []*row.Column, r int, at row.Time, v int, place rowPlace, out Out) bool {
	if v == noVersion {
		null := l.null(cols, r)
		if null >= 0 {
			l.counts.Lookup.Null++
		} else {
			l.counts.Lookup.Missed++
			l.sample(cols, r)
		}
		switch l.def.Missing {
		case DropUnfound:
			l.counts.Dropped++
			return false
		case RejectUnfound:
			l.refuse(cols, r, at, l.unfound(cols, r, null, place), out)
			return false
		}
		return true
	}
	l.counts.Lookup.Found++
	return true
}

// give publishes rows of cols with the columns that were found, column by column.
func (l *asOfLane) give(cols []*row.Column, rows []foundRow, out Out) {
	for len(rows) > 0 {
		some := rows[:min(len(rows), row.MaxRows-l.out.b.N)]
		l.left, l.right = l.left[:0], l.right[:0]
		for _, f := range some {
			l.left, l.right = append(l.left, int32(f.r)), append(l.right, int32(f.v))
		}
		for i, c := range l.out.b.Cols {
			if i < l.def.Fields {
				c.AppendPicked(cols[i], l.left)
			} else {
				c.AppendPicked(l.cols.Cols[i-l.def.Fields], l.right)
			}
		}
		for _, f := range some {
			l.end(cols, f.r, f.at, f.place)
		}
		if l.out.full() {
			l.flush(out)
		}
		rows = rows[len(some):]
	}
}

// sample keeps the key of a row that was not found: of the first ones each, then of some.
func (l *asOfLane) sample(cols []*row.Column, r int) {
	if n := l.counts.Lookup.Missed; l.def.Misses == nil || n > 100 && n&1023 != 0 {
		return
	}
	names, key := l.matched(cols)
	l.def.Misses.note(KeyText(names, key, r))
}

// matched gives the key fields of a row's columns, with their names.
func (l *asOfLane) matched(cols []*row.Column) (names []string, key []*row.Column) {
	l.key = l.key[:0]
	for _, k := range l.def.Keys.Key {
		names = append(names, l.def.Keys.Input[k].Name)
		l.key = append(l.key, cols[k])
	}
	return names, l.key
}

// unfound says why a row is rejected that is not found.
func (l *asOfLane) unfound(cols []*row.Column, r, null int, place rowPlace) Reject {
	names, key := l.matched(cols)
	if null >= 0 {
		return Reject{Index: place.index, Reason: NullKey, Message: "field " + names[null] + " is null, and nothing can be looked up by it"}
	}
	return Reject{Index: place.index, Reason: NotFound, Message: "reference " + l.def.Reference + " had no row for " + KeyText(names, key, r) + " at its time"}
}

// end ends the row of out that was made of row r of cols.
func (l *asOfLane) end(cols []*row.Column, r int, at row.Time, place rowPlace) {
	if !place.made {
		l.out.own(at, place.index, place.order)
		return
	}
	l.key = l.key[:0]
	for _, k := range l.def.Keys.Key {
		l.key = append(l.key, cols[k])
	}
	l.out.add(at, place.index, l.key, r, place.seq)
}

// refuse gives a row that is rejected, behind the rows before it.
func (l *asOfLane) refuse(cols []*row.Column, r int, at row.Time, why Reject, out Out) {
	l.flush(out)
	l.wrong.Reset()
	for i, c := range cols {
		l.wrong.Cols[i].AppendFrom(c, r)
	}
	l.wrong.Times = append(l.wrong.Times, at)
	l.wrong.Index = append(l.wrong.Index, why.Index)
	l.wrong.N = 1
	out.Reject(ViewOf(l.wrong), why)
}

// flush publishes the rows that were made.
func (l *asOfLane) flush(out Out) {
	if l.out.b.N == 0 {
		return
	}
	l.counts.Used += l.then.publish(l.out.b, out, &l.counts)
}

// passed looks up the rows that waited and are before a mark.
func (l *asOfLane) passed(mark row.Time, t *Turn, out Out) {
	for l.wait.ready(mark) {
		l.some = l.some[:0]
		for len(l.some) < row.MaxRows && l.wait.ready(mark) {
			seq := l.wait.queue[0].seq
			at, r, id := l.wait.pop()
			l.some = append(l.some, passedRow{queued{at, seq, uint32(r)}, id})
		}
		l.passedSome(t, out)
	}
}

// passedSome looks up the rows of some.
func (l *asOfLane) passedSome(t *Turn, out Out) {
	l.hits = l.hits[:0]
	for _, p := range l.some { // all at once, as in Take
		l.hits = append(l.hits, l.find(p.key, p.at))
	}
	rows := l.found[:0]
	for n, p := range l.some {
		at, r, v := p.at, int(p.n), l.hits[n]
		place := rowPlace{index: t.Passed(at + 1), made: true, seq: p.seq}
		if v == noVersion && l.def.Missing == RejectUnfound { // those before it go out before it
			l.give(l.wait.rows.Cols, rows, out)
			rows = rows[:0]
		}
		if l.counted(l.wait.rows.Cols, r, at, v, place, out) {
			rows = append(rows, foundRow{r, at, v, place})
		}
	}
	l.give(l.wait.rows.Cols, rows, out)
	l.found = rows[:0]
}

// Move looks up the rows that the watermark has passed, and drops versions.
func (l *asOfLane) Move(t *Turn, out Out) {
	l.passed(t.After, t, out)
	l.flush(out)
	l.wait.passed(t.After)
	for l.due.next() <= t.After && len(l.due) > 0 {
		l.prune(l.due.pop().n, t.After)
	}
	l.tidy()
	l.weigh()
	if rebuilds(l.dict.Len(), l.held+len(l.wait.queue)) {
		l.rebuild()
	}
}

// rebuild makes the dictionary anew, for the keys with versions and those of rows that wait.
func (l *asOfLane) rebuild() {
	r := rekey(l.dict, func(mark []bool) {
		for id, list := range l.versions {
			mark[id] = len(list) > 0
		}
		l.wait.known(mark)
	})
	l.wait.tidy(r.to)
	l.versions, l.newest = moved(&r, l.versions), moved(&r, l.newest)
	l.fresh = r.numbers(l.fresh)
	for i := range l.due { // of keys with versions
		l.due[i].n = r.to[l.due[i].n]
	}
	l.dict = r.dict
}

// Bring implements [Lane]: versions are in memory.
func (l *asOfLane) Bring(*Exchange, int, *Turn) {}

// Shed lets go rows that wait.
func (l *asOfLane) Shed() {
	if l.wait.shed() {
		l.rebuild()
	}
}

// Written implements [Lane].
func (l *asOfLane) Written() { l.wait.written() }

// Freeze copies the versions that came or went, and the rows that began to wait.
func (l *asOfLane) Freeze() []*state.Changes {
	c := l.next
	l.next = state.NewChanges(l.table)
	for _, id := range l.fresh {
		for i := range l.versions[id] {
			v := &l.versions[id][i]
			if v.stored {
				continue
			}
			v.stored = true
			for n, col := range c.Put(l.dict.Key(id), l.dict.Hash(id), 0, int64(v.since), v.place) {
				col.AppendFrom(l.cols.Cols[n], int(v.at))
			}
		}
	}
	l.fresh = l.fresh[:0]
	return []*state.Changes{c, l.wait.freeze(l.dict)}
}

// Load takes versions, and the rows that wait.
func (l *asOfLane) Load(table int, r *state.Rows) error {
	if table == 1 {
		l.wait.load(r, l.dict)
		return nil
	}
	for i := range r.N {
		id := l.dict.Put(r.Key(i), r.Hash[i])
		l.grow()
		for n, c := range l.cols.Cols {
			c.AppendFrom(r.Cols[n], i)
		}
		l.cols.N++
		l.place = max(l.place, r.Rest[1][i])
		l.insert(id, version{since: row.Time(r.Rest[0][i]), place: r.Rest[1][i], at: uint32(l.cols.N - 1), stored: l.keeps})
	}
	return nil
}
