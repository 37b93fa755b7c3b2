package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
)

// reading are the settings of a table or query that is read whole (docs/connectors.md, "postgres").
type reading struct {
	Connection *connect.Connection `set:"connection,required" about:"By its name: of the document, of undertide.yaml, or of the service." missing:"the connection is not named" fix:"add connection: and a name of connections"`
	Table      tableName           `set:"table,once" about:"A table or view." hint:"public.berths"`
	Query      string              `set:"query,once" about:"Or what a query gives." hint:"select id, name from berths where open"`
}

func (r *reading) Check(c *connect.Checker) { checkAsked(c) }

func (r *reading) Reads(*connect.Format) string {
	if r.Connection == nil {
		return "a table"
	}
	return r.asks().called + " of " + r.Connection.Name
}

func (r *reading) asks() asked { return askedOf(r.Table, r.Query) }

// asked is what rows are read by: a table, or a query.
type asked struct {
	called string // for people
	query  string
}

func askedOf(table tableName, query string) asked {
	if query != "" {
		return asked{"a query", query}
	}
	return asked{"table " + string(table), "select * from " + table.quoted()}
}

// checkAsked says whether one of the two is there.
func checkAsked(c *connect.Checker) {
	table, query := c.Has("table"), c.Has("query")
	switch {
	case table && query:
		c.Fault("table and query stand together", "keep one of them", "query")
	case !table && !query:
		c.Fault("what is read is not said", "add table: and its name, or query: select …")
	}
	if c.Has("decode") {
		c.Fault("a table has columns, and no format", "leave decode out", "decode")
	}
}

func (r *reading) Unbounded() bool { return false }

// Stream gives the table; empty for a query.
func (r *reading) Stream() (*connect.Connection, string) { return r.Connection, string(r.Table) }

// Open makes what reads it; the server is reached as reading begins.
func (r *reading) Open(context.Context, connect.Opening) (connect.Opened, error) {
	to, err := databaseOf(r.Connection)
	if err != nil {
		return connect.Opened{}, err
	}
	return connect.Opened{Partitions: []engine.Partition{&whole{to: to, asked: r.asks()}}}, nil
}

// Sample takes the first rows.
func (r *reading) Sample(ctx context.Context, o connect.Opening, which connect.Sampling) (connect.Sample, error) {
	var out connect.Sample
	opened, err := r.Open(ctx, o)
	if err == nil {
		err = connect.Drain(ctx, opened.Partitions[0], which.Rows, &out)
	}
	return out, err
}

// whole gives the rows of a query, each as a JSON object by the names of its columns, as the server writes it (PostgreSQL,
// "JSON Functions", row_to_json). It is read in one transaction that writes nothing.
type whole struct {
	to *reached
	asked

	conn *pgx.Conn
	rows pgx.Rows
	next []byte // the row that comes next
	more bool
	n    int64
}

// lockWithin bounds how long a table that somebody has locked is waited for.
const lockWithin = "10s"

func (p *whole) Name() string                        { return p.called }
func (p *whole) Size() int64                         { return 0 }
func (p *whole) Empty(context.Context) (bool, error) { return false, nil }

// Open begins the query.
func (p *whole) Open(ctx context.Context, _ json.RawMessage) error {
	limited, cancel := context.WithTimeout(ctx, reachIn)
	defer cancel()
	conn, err := p.to.open(limited)
	if err != nil {
		return err
	}
	p.conn = conn
	for _, text := range []string{"begin transaction isolation level repeatable read read only", "set local lock_timeout = '" + lockWithin + "'"} {
		if _, err := conn.Exec(ctx, text); err != nil {
			return p.explain(err)
		}
	}
	if p.rows, err = conn.Query(ctx, "select row_to_json(t)::text from ("+p.query+"\n) t"); err != nil {
		return p.explain(err)
	}
	return p.peek()
}

// peek fetches the next row.
func (p *whole) peek() error {
	if p.more = p.rows.Next(); !p.more {
		if err := p.rows.Err(); err != nil {
			return p.explain(err)
		}
		return nil
	}
	var text string
	if err := p.rows.Scan(&text); err != nil {
		return p.explain(err)
	}
	p.next = append(p.next[:0], text...)
	return nil
}

// explain and explainAt say what is in the way of the query.
func (p *whole) explain(err error) error { return p.explainAt(p.to, err) }

func (p asked) explainAt(to *reached, err error) error {
	var said *pgconn.PgError
	if errors.As(err, &said) {
		switch said.Code {
		case "55P03":
			return fmt.Errorf("%s: %s is locked by somebody, for more than %s; wait for whoever changes it, or end that session", to, p.called, lockWithin)
		case "42P01":
			return fmt.Errorf("%s: %w: %s; create it, or name one that is there", to, connect.ErrNoStream, said.Message)
		case "42601", "42703", "25006":
			return fmt.Errorf("%s: the query is not right: %s", to, said.Message)
		}
	}
	return to.explain(err)
}

// Read fills c with the next rows.
func (p *whole) Read(_ context.Context, c *engine.Chunk) error {
	const most = 4 << 20
	c.First = p.n
	for p.more && len(c.Starts) < row.MaxRows && len(c.Raw) < most {
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, p.next...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
		p.n++
		if err := p.peek(); err != nil {
			return err
		}
	}
	c.Bytes, c.Last = int64(len(c.Raw)), !p.more
	return nil
}

// Close ends the query.
func (p *whole) Close() error {
	if p.conn != nil {
		p.to.close(p.conn)
		p.conn = nil
	}
	return nil
}
