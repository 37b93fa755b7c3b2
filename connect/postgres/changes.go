package postgres

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pglogrepl"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"

	"undertide/connect"
	"undertide/connect/journal"
	"undertide/core/engine"
	"undertide/core/row"
)

// What was done to a row, as meta.change has it.
const (
	inserted  = "insert"
	updated   = "update"
	deleted   = "delete"
	truncated = "truncate"
)

var doings = []string{inserted, updated, deleted, truncated}

// follower writes the rows of a table, then its changes as the server decodes them from its log, into a journal, until it is
// stopped (PostgreSQL, "Logical Replication Message Formats"). The server is told how far they stand there: it keeps its log no longer.
//
// # Each change once
//
// The server sends whole transactions in the order of their commits, again from the newest one that it knows to be written down. Each
// event in the journal has the place of its transaction's commit in the log (LSN) and its number within the transaction. After a break or a kill
// the newest event of the journal tells what stands there: what comes with a lesser place, or the same and a lesser or equal number, is passed over.
//
// The rows that are there at first are of the snapshot that the slot begins with. Their place is the one just before the slot's. Behind them
// stands a mark; until it does nobody reads the journal, and who finds none begins anew, with another slot and an empty journal.
type follower struct {
	to    *reached
	in    *journal.Intake
	table tableName
	slot  string
	owner string // job and source, by which a publication says whose it is
	brief bool   // the slot ends with the run
	// leased: a lease says whose the slot is; whoever has lost it may have a session still, and begins no other. mayAct says whether it is lost.
	leased bool
	mayAct func() error
	types  *pgtype.Map

	ctx  context.Context
	end  context.CancelFunc
	done sync.WaitGroup
	held connect.Health // what the server holds back for the slot

	last  stamp           // of the newest event that stands in the journal
	ok    bool            // the rows of the snapshot stand there whole
	whole chan struct{}   // closed once they do
	gone  context.Context // is done when it can follow no further; its cause says why
	lose  context.CancelCauseFunc
	warn  bool // it was said that a value was not sent
}

// stamp is where an event stands in the server's log.
type stamp struct {
	commit pglogrepl.LSN
	number uint32 // within the transaction, from 1
}

func (s stamp) before(o stamp) bool {
	return s.commit < o.commit || s.commit == o.commit && s.number < o.number
}

func newFollower(to *reached, j *journal.Journal, table tableName, slot, owner string, brief bool) *follower {
	t := &follower{to: to, in: journal.NewIntake(j), table: table, slot: slot, owner: owner, brief: brief, types: pgtype.NewMap(), whole: make(chan struct{})}
	t.gone, t.lose = context.WithCancelCause(context.Background())
	t.ctx, t.end = context.WithCancel(context.Background())
	return t
}

func publicationOf(slot string) string { return quote(slot) }

// change is an event as it stands in the journal:
//
//	0   place of the commit, 8 bytes, little endian
//	8   number within the transaction, 4 bytes
//	12  what was done, 1 byte; 255 for the mark that the snapshot is whole
//	13  when it was committed, in microseconds since 1970, 8 bytes
//	21  length of the values before, as a JSON object, then these; then the values, as one
type change struct {
	stamp
	done     byte
	at       int64
	old, now []byte
}

const (
	changeHead = 21
	wholeMark  = 255
)

func (c *change) frame() []byte {
	out := binary.LittleEndian.AppendUint64(make([]byte, 0, changeHead+4+len(c.old)+len(c.now)), uint64(c.commit))
	out = append(binary.LittleEndian.AppendUint32(out, c.number), c.done)
	out = binary.LittleEndian.AppendUint64(out, uint64(c.at))
	return append(row.AppendText(out, c.old), c.now...)
}

var errNoChange = errors.New("the journal holds no changes of a table")

func cutChange(frame []byte) (c change, err error) {
	if len(frame) < changeHead {
		return c, errNoChange
	}
	c.commit, c.number, c.done = pglogrepl.LSN(binary.LittleEndian.Uint64(frame)), binary.LittleEndian.Uint32(frame[8:]), frame[12]
	c.at = int64(binary.LittleEndian.Uint64(frame[13:]))
	var ok bool
	if c.old, c.now, ok = row.NextText(frame[changeHead:]); !ok || int(c.done) >= len(doings) && c.done != wholeMark {
		return c, errNoChange
	}
	return c, nil
}

// recall reads the newest event of the journal, and whether the snapshot's rows are whole.
func (t *follower) recall() error {
	first, next := t.in.Bounds()
	if first == next {
		t.ok = next > 0 // all was passed
		return nil
	}
	t.ok = first > 0
	r, err := t.in.Read(first)
	if err != nil {
		return err
	}
	defer r.Close()
	for {
		frame, _, ok, err := r.Next()
		if err != nil || !ok {
			return err
		}
		c, err := cutChange(frame)
		if err != nil {
			return err
		}
		t.last, t.ok = c.stamp, t.ok || c.done == wholeMark
	}
}

// start makes what is missing on the server, writes down the rows that are there, and follows from then on.
func (t *follower) start(ctx context.Context, first bool) error {
	if err := t.recall(); err != nil {
		return err
	}
	if t.ok {
		close(t.whole)
	}
	err := t.prepare(ctx)
	if err != nil && (first || !errors.Is(err, connect.ErrUnreachable)) {
		return err
	}
	if err != nil {
		t.in.Way.Fault(err.Error())
	}
	t.done.Go(t.run)
	return nil
}

// prepare looks at the server's settings, and makes the publication.
func (t *follower) prepare(ctx context.Context) error {
	limited, cancel := context.WithTimeout(ctx, 2*reachIn)
	defer cancel()
	conn, err := t.to.open(limited)
	if err != nil {
		return err
	}
	defer t.to.close(conn)
	var level string
	if err := conn.QueryRow(limited, "select current_setting('wal_level')").Scan(&level); err != nil {
		return t.to.explain(err)
	}
	if level != "logical" {
		return fmt.Errorf("%s has wal_level = %s, by which its changes cannot be followed; set wal_level = logical in its settings and start it again", t.to, level)
	}
	var there bool
	if err := conn.QueryRow(limited, "select to_regclass($1) is not null", t.table.quoted()).Scan(&there); err != nil {
		return t.to.explain(err)
	}
	if !there {
		return fmt.Errorf("%s: %w: relation %s does not exist; create it, or name one that is there", t.to, connect.ErrNoStream, t.table)
	}
	if err := t.publish(limited, conn); err != nil {
		return err
	}
	var slot, active bool
	err = conn.QueryRow(limited, "select true, active from pg_replication_slots where slot_name = $1", t.slot).Scan(&slot, &active)
	if err != nil && !errors.Is(err, pgx.ErrNoRows) {
		return t.to.explain(err)
	}
	if active && t.leased { // whoever has lost the job may read it still
		if err := t.endOthers(limited, conn); err != nil {
			return err
		}
		active = false
	}
	if active && !t.ok {
		return fmt.Errorf("%s: slot %s is in use by another; give this one its own in slot", t.to, t.slot)
	}
	if t.ok && !slot && !t.brief {
		return t.noSlot()
	}
	return nil
}

// endOthers ends the session that has the slot, which is this source's own.
func (t *follower) endOthers(ctx context.Context, conn *pgx.Conn) error {
	for {
		var pid int32
		err := conn.QueryRow(ctx, "select active_pid from pg_replication_slots where slot_name = $1 and active_pid is not null", t.slot).Scan(&pid)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err == nil {
			_, err = conn.Exec(ctx, "select pg_terminate_backend($1)", pid)
		}
		if err != nil {
			return t.to.explain(err)
		}
		select {
		case <-ctx.Done():
			return t.to.explain(ctx.Err())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// notToBeHad says why nobody knows what was changed meanwhile.
func (t *follower) notToBeHad(why string) error {
	return fmt.Errorf("%s%s, so what was changed since %s is not to be had; start anew with an empty checkpoint folder, which reads the rows that are there", t.to, why, t.last.commit)
}

func (t *follower) noSlot() error { return t.notToBeHad(" has no slot " + t.slot + " any more") }

// publish makes the publication, unless it is there, and sees that it has the table. One that says that it is another's is left alone, with its slot: else that one would lose
// what is changed.
func (t *follower) publish(ctx context.Context, conn *pgx.Conn) error {
	var whose string
	err := conn.QueryRow(ctx, "select coalesce(obj_description(oid, 'pg_publication'), '') from pg_publication where pubname = $1", t.slot).Scan(&whose)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		says := "'" + strings.ReplaceAll(t.owner, "'", "''") + "'"
		if _, err := conn.Exec(ctx, "create publication "+publicationOf(t.slot)+" for table "+t.table.quoted()+"; comment on publication "+publicationOf(t.slot)+" is "+says); err != nil {
			return fmt.Errorf("make publication %s: %w", t.slot, t.to.explain(err))
		}
		return nil
	case err != nil:
		return t.to.explain(err)
	case whose != "" && whose != t.owner:
		return fmt.Errorf("%s: slot %s is that of %s; give this one its own in slot", t.to, t.slot, whose)
	}
	// One that was made for a table that is there no more has nothing to send.
	var holds bool
	err = conn.QueryRow(ctx, "select exists (select from pg_publication_rel r join pg_publication p on p.oid = r.prpubid where p.pubname = $1 and r.prrelid = to_regclass($2)) or (select puballtables from pg_publication where pubname = $1)", t.slot, t.table.quoted()).Scan(&holds)
	switch {
	case err != nil:
		return t.to.explain(err)
	case holds:
		return nil
	case t.ok:
		return t.notToBeHad(": publication " + t.slot + " has no table " + string(t.table) + " any more, which was made anew or taken out of it")
	}
	if _, err := conn.Exec(ctx, "alter publication "+publicationOf(t.slot)+" add table "+t.table.quoted()); err != nil {
		return fmt.Errorf("add the table to publication %s: %w", t.slot, t.to.explain(err))
	}
	return nil
}

// run follows until the follower is stopped.
func (t *follower) run() {
	pauses := connect.Pauses()
	for t.ctx.Err() == nil {
		before := t.last
		err := t.follow()
		t.in.Present(time.Time{})
		if t.ctx.Err() != nil || t.leased && t.mayAct() != nil {
			return
		}
		if said := (*pgconn.PgError)(nil); t.ok && errors.As(err, &said) && said.Code == undefined {
			t.lose(t.noSlot())
			return
		}
		if t.last != before {
			pauses.Reset()
		}
		t.in.Way.Fault(strings.TrimPrefix(t.to.explain(err).Error(), t.to.String()+" "))
		select {
		case <-time.After(pauses.NextBackOff()):
		case <-t.ctx.Done():
		}
	}
}

// connect opens a session that speaks of replication.
func (t *follower) connect(ctx context.Context) (*pgconn.PgConn, error) {
	c := t.to.config.Config.Copy()
	c.RuntimeParams["replication"] = "database"
	conn, err := pgconn.ConnectConfig(ctx, c)
	if err != nil {
		return nil, t.to.explain(err)
	}
	return conn, nil
}

// follow writes down what comes until the session ends.
func (t *follower) follow() error {
	limited, cancel := context.WithTimeout(t.ctx, 2*reachIn)
	defer cancel()
	conn, err := t.connect(limited)
	if err != nil {
		return err
	}
	defer func() {
		leave, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = conn.Close(leave) // whether it arrives changes nothing
	}()
	if !t.ok {
		if err := t.snapshot(conn); err != nil {
			return err
		}
	}
	begin, cancel := context.WithTimeout(t.ctx, reachIn) // the snapshot may have taken long
	defer cancel()
	options := pglogrepl.StartReplicationOptions{PluginArgs: []string{"proto_version '1'", "publication_names '" + publicationOf(t.slot) + "'"}}
	if err := pglogrepl.StartReplication(begin, conn, t.slot, 0, options); err != nil { // 0: from where the server knows
		return err
	}
	t.in.Present(time.Now())
	t.in.Way.OK()
	return t.stream(conn)
}

// snapshot makes the slot, and writes down the rows that are there as it begins. What an interrupted try has left is made anew.
func (t *follower) snapshot(conn *pgconn.PgConn) error {
	_ = pglogrepl.DropReplicationSlot(t.ctx, conn, t.slot, pglogrepl.DropReplicationSlotOptions{}) // mostly there is none
	if err := t.in.Clear(); err != nil {
		return err
	}
	made, err := pglogrepl.CreateReplicationSlot(t.ctx, conn, t.slot, "pgoutput", pglogrepl.CreateReplicationSlotOptions{Temporary: t.brief, SnapshotAction: "EXPORT_SNAPSHOT"})
	if err != nil {
		return err
	}
	point, err := pglogrepl.ParseLSN(made.ConsistentPoint)
	if err != nil {
		return err
	}
	reader, err := t.to.open(t.ctx)
	if err != nil {
		return err
	}
	defer t.to.close(reader)
	for _, text := range []string{"begin transaction isolation level repeatable read read only", "set transaction snapshot '" + made.SnapshotName + "'"} {
		if _, err := reader.Exec(t.ctx, text); err != nil {
			return err
		}
	}
	rows, err := reader.Query(t.ctx, "select row_to_json(t)::text from "+t.table.quoted()+" t")
	if err != nil {
		return err
	}
	defer rows.Close()
	c := change{stamp: stamp{commit: point - 1}, at: time.Now().UnixMicro()}
	var all [][]byte
	size := 0
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return err
		}
		c.number++
		c.now = []byte(text)
		all = append(all, c.frame())
		if size += len(text); size > piece {
			if err := t.copied(all); err != nil {
				return err
			}
			all, size = all[:0], 0
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	c.number++
	c.done, c.now = wholeMark, nil
	if err := t.copied(append(all, c.frame())); err != nil {
		return err
	}
	t.last, t.ok = c.stamp, true
	close(t.whole)
	return nil
}

// copied writes rows of the snapshot down. Nobody reads them before all are there, so a journal that is too small stays so.
func (t *follower) copied(frames [][]byte) error {
	_, _, err := t.in.Append("", frames)
	if errors.Is(err, journal.ErrFull) {
		return errors.New("the rows that are there do not fit into the journal; give journal more than the table takes")
	}
	return err
}

const (
	// undefined is what the server says of a slot that is not there (PostgreSQL, "Error Codes", undefined_object).
	undefined = "42704"
	// statusEvery is how often the server is told how far the journal goes, at least.
	statusEvery = 5 * time.Second
	// piece bounds the bytes of a transaction that are written down at once.
	piece = 4 << 20
	// heldMuch is how much of its log the server keeps for this side before that is said.
	heldMuch = 1 << 30
)

// stream reads the server's messages.
func (t *follower) stream(conn *pgconn.PgConn) error {
	x := &transaction{t: t, relations: map[uint32]*pglogrepl.RelationMessage{}}
	var written pglogrepl.LSN // all before it stands in the journal
	tell := func() error {
		return pglogrepl.SendStandbyStatusUpdate(t.ctx, conn, pglogrepl.StandbyStatusUpdate{WALWritePosition: written})
	}
	next := time.Now().Add(statusEvery)
	for {
		if time.Now().After(next) {
			if err := tell(); err != nil {
				return err
			}
			next = time.Now().Add(statusEvery)
		}
		// What has come already is gathered; then it is written down.
		limited, cancel := context.WithDeadline(t.ctx, next)
		if len(x.frames) > 0 {
			cancel()
			limited, cancel = context.WithTimeout(t.ctx, time.Millisecond)
		}
		message, err := conn.ReceiveMessage(limited)
		cancel()
		if t.ctx.Err() != nil {
			return t.ctx.Err()
		}
		quiet := err != nil && pgconn.Timeout(err)
		if err != nil && !quiet {
			return err
		}
		if len(x.frames) > 0 && (quiet || x.size >= piece) {
			if !t.in.Put(t.ctx, x.frames) {
				return t.ctx.Err()
			}
			t.last, x.frames, x.size = x.newest, x.frames[:0], 0
			if x.ended > written {
				written = x.ended
				if err := tell(); err != nil {
					return err
				}
			}
		}
		if quiet {
			continue
		}
		data, ok := message.(*pgproto3.CopyData)
		if !ok {
			if said, ok := message.(*pgproto3.ErrorResponse); ok {
				return pgconn.ErrorResponseToPgError(said)
			}
			return fmt.Errorf("the server sent %T in place of changes", message)
		}
		switch data.Data[0] {
		case pglogrepl.PrimaryKeepaliveMessageByteID:
			alive, err := pglogrepl.ParsePrimaryKeepaliveMessage(data.Data[1:])
			if err != nil {
				return err
			}
			// Nothing of the table lies before the server's end, where no transaction is under way.
			if len(x.frames) == 0 && x.begun == nil && alive.ServerWALEnd > written {
				written = alive.ServerWALEnd
			}
			if behind := alive.ServerWALEnd - min(written, alive.ServerWALEnd); written > 0 && behind > heldMuch {
				t.held.Fault(fmt.Sprintf("%d MiB of it are not written down here, and the server keeps them for slot %s", behind>>20, t.slot))
			} else {
				t.held.OK()
			}
			if alive.ReplyRequested {
				if err := tell(); err != nil {
					return err
				}
			}
		case pglogrepl.XLogDataByteID:
			part, err := pglogrepl.ParseXLogData(data.Data[1:])
			if err != nil {
				return err
			}
			m, err := pglogrepl.Parse(part.WALData)
			if err != nil {
				return err
			}
			if err := x.take(m); err != nil {
				return err
			}
			if len(x.frames) == 0 && x.ended > written { // all of it stands in the journal already
				written = x.ended
			}
		}
	}
}

// transaction gathers the changes of transactions, one after another.
type transaction struct {
	t         *follower
	relations map[uint32]*pglogrepl.RelationMessage
	begun     *pglogrepl.BeginMessage
	number    uint32
	frames    [][]byte
	size      int
	newest    stamp
	ended     pglogrepl.LSN // the end of the last transaction that is gathered whole
}

func (x *transaction) take(m pglogrepl.Message) error {
	switch m := m.(type) {
	case *pglogrepl.RelationMessage:
		x.relations[m.RelationID] = m
	case *pglogrepl.BeginMessage:
		x.begun, x.number = m, 0
	case *pglogrepl.CommitMessage:
		x.begun, x.ended = nil, m.TransactionEndLSN
	case *pglogrepl.InsertMessage:
		return x.add(m.RelationID, 0, nil, m.Tuple)
	case *pglogrepl.UpdateMessage:
		return x.add(m.RelationID, 1, m.OldTuple, m.NewTuple)
	case *pglogrepl.DeleteMessage:
		return x.add(m.RelationID, 2, m.OldTuple, m.OldTuple)
	case *pglogrepl.TruncateMessage:
		if len(m.RelationIDs) > 0 {
			return x.add(m.RelationIDs[0], 3, nil, nil)
		}
	}
	return nil
}

// add gathers a change, unless it stands in the journal.
func (x *transaction) add(relation uint32, done byte, old, now *pglogrepl.TupleData) error {
	r := x.relations[relation]
	if x.begun == nil || r == nil {
		return errors.New("the server sent a change without saying of what")
	}
	x.number++
	c := change{stamp: stamp{x.begun.FinalLSN, x.number}, done: done, at: x.begun.CommitTime.UnixMicro()}
	if !x.t.last.before(c.stamp) {
		return nil
	}
	var err error
	if c.now, err = x.object(r, now, old); err != nil {
		return err
	}
	if old != nil {
		if c.old, err = x.object(r, old, nil); err != nil {
			return err
		}
	}
	x.frames, x.newest, x.size = append(x.frames, c.frame()), c.stamp, x.size+len(c.now)+len(c.old)
	return nil
}

// object writes a row as a JSON object. A long value that was not changed is not sent: it is taken from the values before, where the server has
// them.
func (x *transaction) object(r *pglogrepl.RelationMessage, row, before *pglogrepl.TupleData) ([]byte, error) {
	out := map[string]json.RawMessage{}
	if row == nil {
		return []byte("{}"), nil
	}
	for i, c := range row.Columns {
		if i >= len(r.Columns) {
			break
		}
		column := r.Columns[i]
		if c.DataType == pglogrepl.TupleDataTypeToast && before != nil && i < len(before.Columns) {
			c = before.Columns[i]
		}
		switch c.DataType {
		case pglogrepl.TupleDataTypeNull:
			out[column.Name] = json.RawMessage("null")
		case pglogrepl.TupleDataTypeToast:
			if !x.t.warn {
				x.t.warn = true
				slog.Warn("the server does not send long values that an update leaves as they are; ALTER TABLE … REPLICA IDENTITY FULL lets it", "table", string(x.t.table), "column", column.Name)
			}
		case pglogrepl.TupleDataTypeText:
			value, err := x.t.value(column.DataType, c.Data)
			if err != nil {
				return nil, fmt.Errorf("column %s: %w", column.Name, err)
			}
			out[column.Name] = value
		}
	}
	return json.Marshal(out)
}

// value writes a value as row_to_json does: numbers as numbers, truths as such, JSON as it is, lists as lists, all else as text; times
// by RFC 3339, those without a zone as if in UTC.
func (t *follower) value(oid uint32, text []byte) (json.RawMessage, error) {
	switch oid {
	case pgtype.BoolOID:
		if string(text) == "t" {
			return json.RawMessage("true"), nil
		}
		return json.RawMessage("false"), nil
	case pgtype.Int2OID, pgtype.Int4OID, pgtype.Int8OID, pgtype.Float4OID, pgtype.Float8OID, pgtype.NumericOID, pgtype.OIDOID, pgtype.JSONOID, pgtype.JSONBOID:
		if json.Valid(text) {
			return json.RawMessage(text), nil
		}
	case pgtype.TimestamptzOID, pgtype.TimestampOID:
		var v time.Time
		if t.types.Scan(oid, pgtype.TextFormatCode, text, &v) == nil {
			return json.Marshal(v.UTC().Format(time.RFC3339Nano))
		}
	case pgtype.BoolArrayOID, pgtype.Int2ArrayOID, pgtype.Int4ArrayOID, pgtype.Int8ArrayOID, pgtype.Float4ArrayOID, pgtype.Float8ArrayOID, pgtype.TextArrayOID, pgtype.VarcharArrayOID:
		if typed, ok := t.types.TypeForOID(oid); ok {
			if v, err := typed.Codec.DecodeValue(t.types, oid, pgtype.TextFormatCode, text); err == nil {
				return json.Marshal(v)
			}
		}
	}
	return json.Marshal(string(text))
}

// stop ends it once what was gathered is written down, or given up: it comes again.
func (t *follower) stop() {
	t.end()
	t.done.Wait()
	t.lose(nil) // nobody waits for it any more
}

// changed is the journal's partition, without its frames.
type changed struct {
	*journal.Partition
	t *follower
}

// Read implements [engine.Partition].
func (p *changed) Read(ctx context.Context, c *engine.Chunk) error {
	select {
	case <-p.t.whole:
	case <-time.After(time.Second): // nothing yet
		c.Position = p.Start()
		return nil
	case <-ctx.Done():
		return ctx.Err()
	case <-p.t.ctx.Done():
		return context.Canceled
	}
	if err := p.read(ctx, c); err != nil {
		return err
	}
	m := changesMeta{Meta: c.Meta}
	kept := 0
	for i := range c.Starts {
		ch, err := cutChange(c.Event(i))
		if err != nil {
			return err
		}
		if ch.done == wholeMark { // no event
			continue
		}
		c.Starts[kept], c.Ends[kept] = c.Ends[i]-uint32(len(ch.now)), c.Ends[i]
		m.all = append(m.all, ch)
		kept++
	}
	c.Starts, c.Ends, c.Meta = c.Starts[:kept], c.Ends[:kept], m
	return nil
}

// read reads the journal, until all of it is read and nothing follows any more.
func (p *changed) read(ctx context.Context, c *engine.Chunk) error {
	limited, stop := context.WithCancel(ctx)
	defer stop()
	defer context.AfterFunc(p.t.gone, stop)()
	err := p.Partition.Read(limited, c)
	if err != nil && ctx.Err() == nil && p.t.gone.Err() != nil {
		return context.Cause(p.t.gone)
	}
	return err
}

// Quiet implements [engine.Quieter].
func (p *changed) Quiet() (from, to time.Time) { return p.t.in.Quiet(p.Partition) }

// Acknowledge keeps the newest event, which tells what stands in the journal.
func (p *changed) Acknowledge(at json.RawMessage) { p.AcknowledgeBut(at, 1) }

// Trouble implements [engine.Troubled].
func (p *changed) Trouble() string {
	return p.t.in.Trouble(p.t.to.String()+" has not sent changes", "changes could not be written down", p.t.held.Trouble("the server holds back its log"))
}

// changesMeta is what is known of the changes of a chunk.
type changesMeta struct {
	engine.Meta
	all []change
}

// Append implements [engine.Meta].
func (m changesMeta) Append(c *row.Column, field string, i int) {
	ch := &m.all[i]
	switch {
	case field == "meta.change":
		c.AppendString(doings[ch.done])
	case field == "meta.lsn":
		c.AppendString(ch.commit.String())
	case field == "meta.stored":
		c.AppendInt(ch.at)
	case strings.HasPrefix(field, "meta.old."):
		m.appendOld(c, ch, strings.TrimPrefix(field, "meta.old."))
	default:
		c.AppendNull()
	}
}

// appendOld adds the text of a value before.
func (m changesMeta) appendOld(c *row.Column, ch *change, name string) {
	var old map[string]json.RawMessage
	if len(ch.old) == 0 || json.Unmarshal(ch.old, &old) != nil || old[name] == nil || string(old[name]) == "null" {
		c.AppendNull()
		return
	}
	var text string
	if json.Unmarshal(old[name], &text) == nil {
		c.AppendString(text)
		return
	}
	c.AppendBytes(old[name])
}
