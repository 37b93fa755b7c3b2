package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
)

// growing gives the rows of a table or query in the order of a column that grows, and further ones as they are there, each as a JSON
// object.
//
// # No row is passed over
//
// Values are taken before they are committed: a transaction may hold id 5 while id 6 is committed already, and who went on
// behind 6 would never see 5. So the greatest value that is there is only a bound. All transactions that were open as it was
// read have to end before rows up to it are read: by then what they inserted below the bound can be seen. pg_locks shows them. An example: 6 is there, and transaction A is open.
// The bound is 6; A commits 5, and B begins and holds 7. A has ended, so 5 and 6 are read; B does not matter, since it takes greater
// values only.
type growing struct {
	to *reached
	asked
	column  string
	every   time.Duration
	health  connect.Health
	open    atomic.Int64 // transactions that are waited for
	waiting atomic.Int64 // since when, in milliseconds; 0 for not

	conn  *pgx.Conn
	typed string   // the column's type
	at    growth   // how far rows were read
	rows  pgx.Rows // up to bound; nil between
	skip  int64    // of the next rows, those that were given already
	told  bool     // that there are no more
	over  atomic.Bool
}

// growth is a position: the value that was read last, and how many rows of that value were. Up to the bound, where there is one, rows are settled and
// not all read.
type growth struct {
	Value *string `json:"value"`
	Seen  int64   `json:"seen"`
	Bound *string `json:"bound,omitempty"`
}

// try makes sure that the column is there and can be compared.
func (p *growing) try(ctx context.Context) error {
	limited, cancel := context.WithTimeout(ctx, reachIn)
	defer cancel()
	defer p.drop()
	return p.begin(limited)
}

// begin connects, and learns the column's type.
func (p *growing) begin(ctx context.Context) error {
	conn, err := p.to.open(ctx)
	if err != nil {
		return err
	}
	p.conn = conn
	described, err := conn.Prepare(ctx, "", "select "+quote(p.column)+" from ("+p.query+"\n) t")
	if err != nil {
		return p.explainAt(p.to, err)
	}
	if err := conn.QueryRow(ctx, "select format_type($1, null)", described.Fields[0].DataTypeOID).Scan(&p.typed); err != nil {
		return p.to.explain(err)
	}
	return nil
}

func (p *growing) drop() {
	if p.rows != nil {
		p.rows.Close()
		p.rows = nil
	}
	if p.conn != nil {
		p.to.close(p.conn)
		p.conn = nil
	}
}

// Name implements [engine.Partition].
func (p *growing) Name() string { return p.called }

// Size implements [engine.Partition].
func (p *growing) Size() int64 { return 0 }

// Empty implements [engine.Partition].
func (p *growing) Empty(context.Context) (bool, error) { return false, nil }

// Open goes to a position.
func (p *growing) Open(_ context.Context, at json.RawMessage) error {
	if at != nil {
		if err := json.Unmarshal(at, &p.at); err != nil {
			return fmt.Errorf("read the position in %s: %w", p.called, err)
		}
	}
	return nil
}

// Read gives further rows; it waits for them, and for a server that is away.
func (p *growing) Read(ctx context.Context, c *engine.Chunk) error {
	pauses := connect.Pauses()
	for {
		err := p.read(ctx, c)
		switch {
		case p.over.Load():
			return context.Canceled
		case ctx.Err() != nil:
			return ctx.Err()
		case err == nil && (len(c.Starts) > 0 || !p.told):
			p.health.OK()
			return p.finish(c)
		case err == nil: // nothing is there, and that was said
			p.health.OK()
			pauses.Reset()
			p.sleep(ctx, p.every)
			continue
		case !mayPass(err) && !errors.Is(err, connect.ErrUnreachable):
			return p.explainAt(p.to, err)
		}
		p.drop()
		p.health.Fault(strings.TrimPrefix(p.to.explain(err).Error(), p.to.String()+" "))
		p.sleep(ctx, pauses.NextBackOff())
		if len(c.Starts) > 0 {
			return p.finish(c)
		}
	}
}

func (p *growing) finish(c *engine.Chunk) (err error) {
	p.told = len(c.Starts) == 0
	c.CaughtUp = p.rows == nil
	c.Position, err = json.Marshal(p.at)
	return err
}

func (p *growing) sleep(ctx context.Context, d time.Duration) {
	for until := time.Now().Add(d); time.Now().Before(until) && ctx.Err() == nil && !p.over.Load(); {
		time.Sleep(min(20*time.Millisecond, time.Until(until)))
	}
}

// read adds the rows that can be given now.
func (p *growing) read(ctx context.Context, c *engine.Chunk) error {
	if p.rows == nil {
		if p.conn == nil || p.conn.IsClosed() {
			limited, cancel := context.WithTimeout(ctx, reachIn)
			err := p.begin(limited)
			cancel()
			if err != nil {
				return err
			}
		}
		more, err := p.look(ctx)
		if err != nil || !more {
			return err
		}
	}
	const most = 4 << 20
	for len(c.Starts) < row.MaxRows && len(c.Raw) < most {
		if !p.rows.Next() {
			err := p.rows.Err()
			if p.rows = nil; err == nil {
				p.at.Bound = nil
			}
			return err
		}
		var value, text string
		if err := p.rows.Scan(&value, &text); err != nil {
			return err
		}
		if p.at.Value != nil && *p.at.Value == value {
			if p.skip > 0 {
				p.skip--
				continue
			}
			p.at.Seen++
		} else {
			p.at.Value, p.at.Seen, p.skip = &value, 1, 0
		}
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, text...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
		c.Bytes += int64(len(text))
	}
	return nil
}

// look begins to read the rows that are settled; false for none.
func (p *growing) look(ctx context.Context) (bool, error) {
	column := "t." + quote(p.column) // in order by, a name alone would be that of the text
	if p.at.Bound == nil {
		found, err := p.settled(ctx, column)
		if err != nil || !found {
			return false, err
		}
	}
	query := "select " + column + "::text, row_to_json(t)::text from (" + p.query + "\n) t where " + column + " <= $1::text::" + p.typed
	args := []any{*p.at.Bound}
	if p.at.Value != nil {
		query += " and " + column + " >= $2::text::" + p.typed
		args = append(args, *p.at.Value)
	}
	rows, err := p.conn.Query(ctx, query+" order by "+column+", row_to_json(t)::text", args...)
	if err != nil {
		return false, err
	}
	p.rows, p.skip = rows, p.at.Seen
	return true, nil
}

// settled looks for a greater value than those that were read, and waits until the rows up to it are settled; false where there is none.
func (p *growing) settled(ctx context.Context, column string) (bool, error) {
	from := "true"
	var args []any
	if p.at.Value != nil {
		from, args = column+" > $1::text::"+p.typed, []any{*p.at.Value}
	}
	var bound *string
	if err := p.conn.QueryRow(ctx, "select max("+column+")::text from ("+p.query+"\n) t where "+from, args...).Scan(&bound); err != nil || bound == nil {
		return false, err
	}
	if err := p.settle(ctx); err != nil {
		return false, err
	}
	p.at.Bound = bound
	return true, nil
}

// openNow gives the transactions that are open and may insert lesser values: by a sequence only who has changed something, or taken a number from
// one, holds such; by the time at which it began, whoever is open. Those that are prepared (two-phase commit) have no session any more.
func (p *growing) openNow() string {
	holds := "and exists (select from pg_locks k where k.virtualtransaction = l.virtualtransaction and k.locktype = 'relation' and k.mode not in ('AccessShareLock', 'RowShareLock'))"
	if strings.HasPrefix(p.typed, "timestamp") {
		holds = ""
	}
	return "select l.virtualtransaction from pg_locks l join pg_stat_activity a using (pid) where l.locktype = 'virtualxid' and l.pid <> pg_backend_pid() and a.usesysid is not null and a.datname = current_database() " + holds +
		" union all select 'prepared ' || gid from pg_prepared_xacts where database = current_database()"
}

// settle waits until all transactions that are open now have ended.
func (p *growing) settle(ctx context.Context) error {
	var open []string
	if err := p.conn.QueryRow(ctx, "select coalesce(array_agg(virtualtransaction), '{}') from ("+p.openNow()+") o").Scan(&open); err != nil {
		return err
	}
	defer p.waiting.Store(0)
	for pause := 5 * time.Millisecond; len(open) > 0; pause = min(2*pause, p.every) {
		p.open.Store(int64(len(open)))
		p.waiting.CompareAndSwap(0, time.Now().UnixMilli())
		if p.sleep(ctx, pause); ctx.Err() != nil || p.over.Load() {
			return context.Canceled
		}
		if err := p.conn.QueryRow(ctx, "select coalesce(array_agg(virtualtransaction), '{}') from ("+p.openNow()+") o where virtualtransaction = any($1)", open).Scan(&open); err != nil {
			return err
		}
	}
	return nil
}

// Trouble implements [engine.Troubled].
func (p *growing) Trouble() string {
	if since := p.waiting.Load(); since > 0 && time.Since(time.UnixMilli(since)) > 5*time.Second {
		return fmt.Sprintf("rows wait for %d transactions of %s that were open before and may still insert lesser values of %s, for %s: end them (pg_stat_activity shows them)", p.open.Load(), p.to, p.column, time.Since(time.UnixMilli(since)).Round(time.Second))
	}
	return p.health.Trouble(p.to.String() + " has not answered")
}

// Close lets a Read that waits return.
func (p *growing) Close() error {
	p.over.Store(true)
	return nil
}
