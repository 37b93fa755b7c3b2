package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"undertide/connect"
	"undertide/connect/journal"
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/postgres"
)

// yard gives a database of its own on a server, the connection to it, and its address.
func yard(t testing.TB, s *postgres.Server, name string) (*connect.Connection, string) {
	t.Helper()
	address, err := s.Guest(context.Background(), name)
	if err != nil {
		t.Fatal(err)
	}
	u, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	password, _ := u.User.Password()
	l := &Link{URL: urlText("postgres://" + name + "@" + u.Host + u.Path + "?host=" + url.QueryEscape(u.Query().Get("host"))), Password: settings.SecretText(password)}
	return &connect.Connection{Name: "yard", Kind: Kind, Link: l}, address
}

func session(t testing.TB, address string) *pgx.Conn {
	t.Helper()
	var c *pgx.Conn
	var err error
	for range 200 { // it may be starting
		if c, err = pgx.Connect(context.Background(), address); err == nil {
			t.Cleanup(func() { c.Close(context.Background()) })
			return c
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatal(err)
	return nil
}

func must(t testing.TB, c *pgx.Conn, text string, args ...any) {
	t.Helper()
	if _, err := c.Exec(context.Background(), text, args...); err != nil {
		t.Fatalf("%s: %v", text, err)
	}
}

// event is one that was read.
type event struct {
	Text, Change, Old string
}

// readSome reads from a position on until enough says so, or where that comes first until so much time has passed.
func readSome(t testing.TB, p engine.Partition, at json.RawMessage, old string, most time.Duration, enough func(all []event) bool) (all []event, position json.RawMessage) {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), most)
	defer stop()
	if err := p.Open(ctx, at); err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	change, before := row.NewColumn(row.String), row.NewColumn(row.String)
	for position = at; !enough(all); {
		var c engine.Chunk
		if err := p.Read(ctx, &c); ctx.Err() != nil {
			return all, position
		} else if err != nil {
			t.Fatalf("after %d events: %v", len(all), err)
		}
		for i := range c.Starts {
			e := event{Text: string(c.Event(i))}
			if c.Meta != nil {
				change.Reset()
				before.Reset()
				c.Meta.Append(change, "meta.change", i)
				c.Meta.Append(before, "meta.old."+old, i)
				e.Change = string(change.Bytes(0))
				if !before.IsNull(0) {
					e.Old = string(before.Bytes(0))
				}
			}
			all = append(all, e)
		}
		position = c.Position
	}
	return all, position
}

func opening(t testing.TB, s *source, o connect.Opening) (connect.Opened, engine.Partition) {
	t.Helper()
	opened, err := s.Open(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	if opened.Close == nil {
		opened.Close = func() {}
	}
	return opened, opened.Partitions[0]
}

// TestGrowing: rows of transactions that commit in any order, and take their numbers early and late, are each read once in the order
// of the column, over restarts at any position.
func TestGrowing(t *testing.T) {
	s, _, _ := server(t)
	c, address := yard(t, s, "growing")
	must(t, session(t, address), "drop table if exists lifts; create table lifts (id bigserial primary key, who int, n int)")
	const writers, each = 6, 150
	var all sync.WaitGroup
	for w := range writers {
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 3))
			conn := session(t, address)
			for n := 0; n < each; {
				tx, err := conn.Begin(context.Background())
				if err != nil {
					t.Error(err)
					return
				}
				for range 1 + r.IntN(3) {
					if r.IntN(2) == 0 { // as some programs do: the number first
						var id int64
						if err := tx.QueryRow(context.Background(), "select nextval('lifts_id_seq')").Scan(&id); err != nil {
							t.Error(err)
						}
						time.Sleep(time.Duration(r.IntN(5)) * time.Millisecond)
						_, err = tx.Exec(context.Background(), "insert into lifts values ($1, $2, $3)", id, w, n)
					} else {
						_, err = tx.Exec(context.Background(), "insert into lifts (who, n) values ($1, $2)", w, n)
					}
					if err != nil {
						t.Error(err)
					}
					n++
					time.Sleep(time.Duration(r.IntN(10)) * time.Millisecond)
				}
				if err := tx.Commit(context.Background()); err != nil {
					t.Error(err)
				}
			}
		})
	}
	done := make(chan struct{})
	go func() { all.Wait(); close(done) }()
	seen, last := map[string]int{}, int64(0)
	var at json.RawMessage
	finished := false
	for until := time.Now().Add(time.Minute); ; {
		src := &source{Connection: c, Table: "lifts", Follow: "id", Every: 10 * time.Millisecond}
		_, p := opening(t, src, connect.Opening{})
		reads := 0
		var some []event
		some, at = readSome(t, p, at, "", 300*time.Millisecond, func([]event) bool { reads++; return reads > 6 })
		for _, e := range some {
			var l struct{ ID, Who, N int64 }
			if err := json.Unmarshal([]byte(e.Text), &l); err != nil {
				t.Fatal(err)
			}
			if l.ID <= last {
				t.Errorf("id %d came behind %d", l.ID, last)
			}
			last = l.ID
			seen[fmt.Sprint(l.Who, " ", l.N)]++
		}
		if finished && len(some) == 0 {
			break
		}
		select {
		case <-done:
			finished = true
		default:
		}
		if time.Now().After(until) {
			t.Fatal("not within a minute")
		}
	}
	for w := range writers {
		for n := range each {
			if times := seen[fmt.Sprint(w, " ", n)]; times != 1 {
				t.Errorf("row %d of writer %d was read %d times", n, w, times)
			}
		}
	}
}

// TestTies: rows of one value are read together, and a restart between them goes on behind the last one.
func TestTies(t *testing.T) {
	s, _, _ := server(t)
	c, address := yard(t, s, "ties")
	must(t, session(t, address), "drop table if exists t; create table t as select now() - interval '1 hour' as at, i from generate_series(1, 10000) i")
	src := &source{Connection: c, Query: "select * from t where i > 0", Follow: "at", Every: 10 * time.Millisecond}
	seen := map[string]int{}
	var at json.RawMessage
	for lives := 0; len(seen) < 10000; lives++ {
		_, p := opening(t, src, connect.Opening{})
		var some []event
		some, at = readSome(t, p, at, "", 20*time.Second, func(all []event) bool { return len(all) > 0 })
		for _, e := range some {
			seen[e.Text]++
		}
		if lives > 50 {
			t.Fatalf("%d rows after 50 lives", len(seen))
		}
	}
	for text, n := range seen {
		if n != 1 {
			t.Errorf("%s was read %d times", text, n)
		}
	}
}

// TestFollowWrong: what cannot be followed says why as it is opened.
func TestFollowWrong(t *testing.T) {
	s, _, _ := server(t)
	c, address := yard(t, s, "wrongs")
	must(t, session(t, address), "create table if not exists t (id int)")
	for want, src := range map[string]*source{
		`column "nope" does not exist`: {Connection: c, Table: "t", Follow: "nope"},
		`relation "u" does not exist`:  {Connection: c, Table: "u", Follow: "id"},
		"relation v does not exist":    {Connection: c, Table: "v", Changes: true, Slot: "v"},
		"syntax error":                 {Connection: c, Query: "selec 1", Follow: "id"},
	} {
		if _, err := src.Open(context.Background(), connect.Opening{Journal: t.TempDir()}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// TestChanges: the rows that are there, then all changes of transactions of many sessions, each once and in the order of their commits, while
// the follower is ended and begun again, and the server is killed; what is read gives the table.
func TestChanges(t *testing.T) {
	s, _, _ := ownServer(t)
	c, address := yard(t, s, "moving")
	conn := session(t, address)
	must(t, conn, "create table berths (id int primary key, ship text, draught numeric(5,2), n int)")
	must(t, conn, "alter table berths replica identity full")
	must(t, conn, "insert into berths select i, 'first', i / 4.0, 0 from generate_series(1, 500) i")
	const writers = 4
	stop := make(chan struct{})
	var all sync.WaitGroup
	for w := range writers {
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 9))
			var conn *pgx.Conn
			for n := 1; ; n++ {
				select {
				case <-stop:
					return
				case <-time.After(time.Duration(r.IntN(4)) * time.Millisecond):
				}
				var err error
				if conn == nil || conn.IsClosed() {
					if conn, err = pgx.Connect(context.Background(), address); err != nil {
						conn = nil
						time.Sleep(20 * time.Millisecond)
						continue
					}
					defer conn.Close(context.Background())
				}
				id := 1 + r.IntN(600)
				switch r.IntN(4) {
				case 0:
					_, err = conn.Exec(context.Background(), "insert into berths values ($1, 'new', 1, 1) on conflict (id) do update set n = berths.n + 1", id)
				case 1:
					_, err = conn.Exec(context.Background(), "delete from berths where id = $1", id)
				case 2:
					_, err = conn.Exec(context.Background(), "update berths set n = n + 1, ship = $2 where id between $1 and $1 + 20", id, fmt.Sprint("ship ", n))
				case 3: // one that is taken back
					_, err = conn.Exec(context.Background(), "begin; update berths set n = 100000 where id = 1; rollback")
				}
				_ = err // the server is killed
			}
		})
	}
	dir := t.TempDir()
	src := func() *source { return &source{Connection: c, Table: "berths", Changes: true, Slot: "moving_slot"} }
	table := map[int]string{}
	follow := func(e event) {
		var b struct {
			ID int
			N  int
		}
		if err := json.Unmarshal([]byte(e.Text), &b); err != nil {
			t.Fatalf("%s: %v", e.Text, err)
		}
		was, there := table[b.ID]
		switch {
		case e.Change == inserted && there:
			t.Errorf("berth %d was inserted twice", b.ID)
		case e.Change != inserted && !there:
			t.Errorf("berth %d has a %s and was not there", b.ID, e.Change)
		case e.Change == updated || e.Change == deleted:
			var before struct{ N int }
			if err := json.Unmarshal([]byte(was), &before); err != nil || fmt.Sprint(before.N) != e.Old {
				t.Errorf("berth %d had n = %s before its %s, and %s here", b.ID, e.Old, e.Change, was)
			}
		}
		if delete(table, b.ID); e.Change != deleted {
			table[b.ID] = e.Text
		}
	}
	var at json.RawMessage
	for life := range 6 {
		o, p := opening(t, src(), connect.Opening{Journal: dir, Kept: true, Known: slices.Repeat([]string{"berths"}, min(1, life))})
		until := time.Now().Add(700 * time.Millisecond)
		var some []event
		some, at = readSome(t, p, at, "n", time.Until(until), func([]event) bool { return false })
		for _, e := range some {
			follow(e)
		}
		p.(engine.Acknowledger).Acknowledge(at)
		o.Close()
		if life == 2 || life == 4 {
			kill(t, s)
		}
	}
	close(stop)
	all.Wait()
	conn = session(t, address)
	must(t, conn, "insert into berths values (-1, 'end', 0, 0)")
	o, p := opening(t, src(), connect.Opening{Journal: dir, Kept: true, Known: []string{"berths"}})
	defer o.Close()
	rest, _ := readSome(t, p, at, "n", 30*time.Second, func(all []event) bool {
		return len(all) > 0 && strings.Contains(all[len(all)-1].Text, `"end"`)
	})
	for _, e := range rest {
		follow(e)
	}
	want := map[int]string{}
	rows, err := conn.Query(context.Background(), "select id, json_build_object('draught', draught, 'id', id, 'n', n, 'ship', ship)::text from berths")
	if err != nil {
		t.Fatal(err)
	}
	for rows.Next() {
		var id int
		var text string
		if err := rows.Scan(&id, &text); err != nil {
			t.Fatal(err)
		}
		want[id] = plain(t, text)
	}
	for id := range table {
		table[id] = plain(t, table[id])
	}
	if !maps.Equal(table, want) {
		for id := range want {
			if want[id] != table[id] {
				t.Errorf("berth %d is %s, want %s", id, table[id], want[id])
			}
		}
		t.Errorf("the changes give %d rows, and the table has %d", len(table), len(want))
	}
	if err := src().Forget(context.Background()); err == nil || !strings.Contains(err.Error(), "active") {
		t.Errorf("a slot that is followed is removed: %v", err)
	}
	o.Close()
	for range 50 {
		if err = src().Forget(context.Background()); err == nil {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	var left int
	if err := conn.QueryRow(context.Background(), "select (select count(*) from pg_replication_slots) + (select count(*) from pg_publication)").Scan(&left); err != nil || left != 0 {
		t.Errorf("%d slots and publications are left, %v", left, err)
	}
}

// TestSlotGone: a slot that is gone while it is followed, because somebody removed it or the session broke with which it ends, is an error of the run: what was
// changed is not to be had. A slot of another job is left alone.
func TestSlotGone(t *testing.T) {
	s, _, _ := server(t)
	c, address := yard(t, s, "gone")
	conn := session(t, address)
	must(t, conn, "drop table if exists t; create table t (id int primary key); insert into t values (1)")
	for _, kept := range []bool{true, false} {
		src := &source{Connection: c, Table: "t", Changes: true, Slot: "gone_slot"}
		opened := connect.Opening{Job: "j", Name: "s"}
		if kept {
			opened.Journal, opened.Kept = t.TempDir(), true
		}
		o, p := opening(t, src, opened)
		_, at := readSome(t, p, nil, "", 20*time.Second, func(all []event) bool { return len(all) == 1 })
		other := opened
		other.Job, other.Journal = "other", t.TempDir()
		if _, err := (&source{Connection: c, Table: "t", Changes: true, Slot: "gone_slot"}).Open(context.Background(), other); err == nil || !strings.Contains(err.Error(), "slot gone_slot is that of undertide j.s; give this one its own") {
			t.Errorf("the slot of another job: %v", err)
		}
		must(t, conn, "select pg_terminate_backend(active_pid) from pg_replication_slots where slot_name = 'gone_slot' and active")
		if kept {
			for range 200 { // before it is followed again
				if _, err := conn.Exec(context.Background(), "select pg_drop_replication_slot('gone_slot')"); err == nil {
					break
				}
				must(t, conn, "select pg_terminate_backend(active_pid) from pg_replication_slots where slot_name = 'gone_slot' and active")
			}
		}
		p = journalAgain(o)
		ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
		if err := p.Open(ctx, at); err != nil {
			t.Fatal(err)
		}
		var err error
		for err == nil {
			var c engine.Chunk
			err = p.Read(ctx, &c)
		}
		stop()
		if !strings.Contains(err.Error(), "has no slot gone_slot any more") {
			t.Errorf("kept %v: %v", kept, err)
		}
		p.Close()
		o.Close()
		must(t, conn, "drop publication gone_slot")
	}
}

// TestTableAnew: a table that was made anew is followed by a start that begins anew, and one that goes on says that it cannot.
func TestTableAnew(t *testing.T) {
	s, _, _ := server(t)
	c, address := yard(t, s, "anew")
	conn := session(t, address)
	create := func() {
		must(t, conn, "drop table if exists t; create table t (id int primary key); insert into t values (1)")
	}
	start := func(dir string) (connect.Opened, error) {
		return (&source{Connection: c, Table: "t", Changes: true, Slot: "anew_slot"}).Open(context.Background(), connect.Opening{Job: "j", Name: "s", Journal: dir, Kept: true})
	}
	dir := t.TempDir()
	for _, folder := range []string{dir, t.TempDir()} {
		create()
		o, err := start(folder)
		if err != nil {
			t.Fatal(err)
		}
		_, at := readSome(t, o.Partitions[0], nil, "", 20*time.Second, func(all []event) bool { return len(all) == 1 })
		must(t, conn, "insert into t values (2)")
		if got, _ := readSome(t, journalAgain(o), at, "", 20*time.Second, func(all []event) bool { return len(all) == 1 }); len(got) != 1 {
			t.Error("a change does not come")
		}
		o.Close()
	}
	create()
	if _, err := start(dir); err == nil || !strings.Contains(err.Error(), "has no table t any more") {
		t.Errorf("it goes on: %v", err)
	}
	if err := (&source{Connection: c, Table: "t", Changes: true, Slot: "anew_slot"}).Forget(context.Background()); err != nil {
		t.Error(err)
	}
}

// plain writes a JSON object by its names in order.
func plain(t *testing.T, text string) string {
	t.Helper()
	var v map[string]any
	if err := json.Unmarshal([]byte(text), &v); err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	out, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return string(out)
}

// kill kills the server; its keeper starts another.
func kill(t *testing.T, s *postgres.Server) {
	t.Helper()
	pid := s.PID()
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	for range 400 {
		if s.PID() != pid {
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	t.Fatal("no other server was started")
}

// TestChangedValues: a row that is changed is written as one that is there at first, whatever its types.
func TestChangedValues(t *testing.T) {
	s, _, _ := server(t)
	c, address := yard(t, s, "typed")
	conn := session(t, address)
	const values = `true, 1, 2, 3::bigint, 1.5::real, 2.25::float8, 12.50::numeric(6,2), 'a "b" ü', 'c', '2026-03-01 07:30:00.5+00'::timestamptz, '2026-03-01'::date, '{"a": [1, null]}'::jsonb, '{1,2,null}'::int[], array['x', 'y z'], '\x00ff'::bytea, '12345678-1234-1234-1234-123456789abc'::uuid, interval '90 seconds', null::text`
	must(t, conn, "drop table if exists v; create table v as select 1 as id, t.* from (select "+values+") as t (bo, sm, i, bi, re, do_, nu, te, ch, tz, da, js, ia, ta, by, uu, iv, nl)")
	o, p := opening(t, &source{Connection: c, Table: "v", Changes: true, Slot: "typed_slot"}, connect.Opening{})
	defer o.Close()
	first, at := readSome(t, p, nil, "", 20*time.Second, func(all []event) bool { return len(all) == 1 })
	must(t, conn, "insert into v select * from v")
	p = journalAgain(o)
	again, _ := readSome(t, p, at, "", 20*time.Second, func(all []event) bool { return len(all) == 1 })
	if a, b := times(plain(t, first[0].Text)), plain(t, again[0].Text); a != b {
		t.Errorf("at first\n%s\nas changed\n%s", a, b)
	}
}

// times writes the time as RFC 3339 has it in UTC.
func times(s string) string { return strings.ReplaceAll(s, "+00:00", "Z") }

// journalAgain gives the partition of an opened source once more: it was closed.
func journalAgain(o connect.Opened) engine.Partition {
	was := o.Partitions[0].(*changed)
	return &changed{Partition: journal.NewPartition(was.t.in.Journal, was.Name()), t: was.t}
}

// BenchmarkChanges follows the changes of a table that were committed a hundred rows a transaction, and gives how many are read in a second
// (docs/speed.md).
func BenchmarkChanges(b *testing.B) {
	s, _, _ := server(b)
	c, address := yard(b, s, "fast")
	conn := session(b, address)
	const rows = 100_000
	for b.Loop() {
		b.StopTimer()
		must(b, conn, "drop table if exists t; create table t (id bigserial primary key, gauge text, level_m double precision, read_at timestamptz)")
		src := &source{Connection: c, Table: "t", Changes: true, Slot: "fast_slot"}
		must(b, conn, "select pg_drop_replication_slot(slot_name) from pg_replication_slots where slot_name = 'fast_slot'")
		must(b, conn, "drop publication if exists fast_slot")
		dir := b.TempDir()
		o, p := opening(b, src, connect.Opening{Journal: dir, Kept: true})
		_, at := readSome(b, p, nil, "", 500*time.Millisecond, func([]event) bool { return false })
		o.Close()
		for range rows / 100 {
			must(b, conn, "insert into t (gauge, level_m, read_at) select 'G' || i, i * 1.25, now() from generate_series(1, 100) i")
		}
		b.StartTimer()
		o, p = opening(b, src, connect.Opening{Journal: dir, Kept: true, Known: []string{"t"}})
		got, _ := readSome(b, p, at, "", time.Minute, func(all []event) bool { return len(all) >= rows })
		b.StopTimer()
		if len(got) != rows {
			b.Fatalf("%d rows of %d", len(got), rows)
		}
		o.Close()
		b.StartTimer()
	}
	b.ReportMetric(rows*float64(b.N)/b.Elapsed().Seconds(), "changes/s")
}

// TestSlotTakenOver: whoever has the job by a later lease goes on with its slot, which the node of before may hold still, from where that one's journal ends.
func TestSlotTakenOver(t *testing.T) {
	s, _, _ := server(t)
	c, address := yard(t, s, "over")
	conn := session(t, address)
	must(t, conn, "drop table if exists t; create table t (id int primary key); insert into t values (1)")
	dir := t.TempDir()
	var now atomic.Int64 // who has the job
	by := func(lease int64) connect.Opening {
		now.Store(lease)
		return connect.Opening{Job: "j", Name: "s", Journal: dir, Kept: true, Lease: lease, Leased: func() error {
			if now.Load() != lease {
				return errors.New("another node has the job")
			}
			return nil
		}}
	}
	src := func() *source { return &source{Connection: c, Table: "t", Changes: true, Slot: "over_slot"} }
	first, p := opening(t, src(), by(1))
	defer first.Close()
	_, at := readSome(t, p, nil, "", 20*time.Second, func(all []event) bool { return len(all) == 1 })
	must(t, conn, "insert into t values (2)")
	readSome(t, journalAgain(first), at, "", 20*time.Second, func(all []event) bool { return len(all) == 1 }) // in its journal, and in no checkpoint
	known := by(2)
	known.Known = []string{"t"}
	second, q := opening(t, src(), known) // the first one has its session still
	defer second.Close()
	must(t, conn, "insert into t values (3)")
	rest, _ := readSome(t, q, at, "", 20*time.Second, func(all []event) bool { return len(all) == 2 })
	for i, want := range []string{`"id":2`, `"id":3`} {
		if !strings.Contains(strings.ReplaceAll(rest[i].Text, " ", ""), want) {
			t.Errorf("change %d is %s, want %s", i, rest[i].Text, want)
		}
	}
}
