package postgres

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"github.com/jackc/pgx/v5"

	"undertide/connect"
)

// Looker asks what a connection reaches. Safe for concurrent use.
type Looker struct{ to *reached }

func (l *Looker) Close() {}

// The steps of a test, in order: one that fails leaves those after it not asked.
const (
	reachedStep = iota
	signedIn
	tableThere
	mayRead
	mayInsert
	mayDelete
)

// Try tries the connection step by step, and a table where one is named. Rights are what the server says they are.
func (l *Looker) Try(ctx context.Context, name string) []connect.Step {
	steps := connect.NewTrial([]connect.Step{{Name: "reached"}, {Name: "signed in"}, {Name: "table there", Needs: connect.ByMaking}, {Name: "may read", Needs: connect.ByReading}, {Name: "may insert", Needs: connect.ByWriting}, {Name: "may delete", Needs: connect.ByReplacing}}...)
	say := steps.Say
	ctx, cancel := context.WithTimeout(ctx, 2*reachIn)
	defer cancel()
	began := time.Now()
	network, address := "tcp", l.to.target.address()
	if l.to.target.socket() {
		network, address = "unix", l.to.target.host+"/.s.PGSQL."+l.to.target.port
	}
	probe, err := (&net.Dialer{Timeout: 3 * time.Second}).DialContext(ctx, network, address)
	if err != nil {
		say(reachedStep, false, "%v", l.to.explain(err))
		return steps
	}
	probe.Close()
	say(reachedStep, true, "%s answers in %s", l.to.target.address(), max(time.Millisecond, time.Since(began).Round(time.Millisecond)))
	conn, err := l.to.open(ctx)
	if err != nil {
		say(signedIn, false, "%v", err)
		return steps
	}
	defer l.to.close(conn)
	way := "in the clear"
	switch _, secure := conn.PgConn().Conn().(interface{ HandshakeContext(context.Context) error }); {
	case secure:
		way = "over TLS"
	case l.to.target.socket():
		way = "over a socket"
	}
	say(signedIn, true, "as %s into %s, %s", l.to.target.user, l.to.target.database, way)
	if name == "" {
		steps[tableThere].Text = "name a table to ask for its rights"
		return steps
	}
	var t tableName
	if err := t.UnmarshalText([]byte(name)); err != nil {
		say(tableThere, false, "%v", err)
		return steps
	}
	var there, read, insert, remove bool
	err = conn.QueryRow(ctx, `SELECT true, has_table_privilege(c.oid, 'SELECT'), has_table_privilege(c.oid, 'INSERT'), has_table_privilege(c.oid, 'DELETE') AND has_table_privilege(c.oid, 'UPDATE') AND has_table_privilege(c.oid, 'SELECT')
		FROM pg_class c WHERE c.oid = to_regclass($1) AND c.relkind IN ('r', 'p', 'v', 'm', 'f')`, t.quoted()).Scan(&there, &read, &insert, &remove)
	if err != nil && !there {
		if !errors.Is(err, pgx.ErrNoRows) {
			say(tableThere, false, "%v", l.to.explain(err))
			return steps
		}
		say(tableThere, false, "there is no table %s, or this user may not see it", name)
		return steps
	}
	say(tableThere, true, "%s is there", name)
	say(mayRead, read, "%s", right(read, "read", name))
	say(mayInsert, insert, "%s", right(insert, "insert into", name))
	say(mayDelete, remove, "%s", right(remove, "update and delete rows of", name))
	return steps
}

func right(has bool, what, name string) string {
	if has {
		return "the server says so"
	}
	return fmt.Sprintf("the server says that this user may not %s %s; GRANT the right, where a job is to do so", what, name)
}
