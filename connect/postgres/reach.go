package postgres

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"undertide/connect"
	"undertide/connect/secure"
)

// reached is a database that can be connected to.
type reached struct {
	name   string
	target target
	config *pgx.ConnConfig
}

func (r *reached) String() string { return fmt.Sprintf("database %s (%s)", r.name, r.target.address()) }

// reachIn bounds how long connecting takes.
const reachIn = 5 * time.Second

// reach makes what connects. Nothing is taken from variables, password files and service files of the machine.
func (l *Link) reach(name string) (*reached, error) {
	t := l.target()
	q := url.Values{"sslmode": {t.mode}, "passfile": {os.DevNull}, "servicefile": {os.DevNull}, "host": {t.host}, "port": {t.port}, "user": {t.user}, "dbname": {t.database},
		"sslrootcert": {""}, "sslcert": {""}, "sslkey": {""}, "connect_timeout": {fmt.Sprint(int(reachIn.Seconds()))}, "application_name": {"undertide"}, "target_session_attrs": {"any"}}
	if !t.onLoopback() && t.mode != "require" && !strings.HasPrefix(t.mode, "verify") {
		q.Set("require_auth", "scram-sha-256") // who listens on the way, or answers in its place, learns no password
	}
	var dsn strings.Builder
	for k, v := range q {
		if v[0] != "" {
			fmt.Fprintf(&dsn, "%s='%s' ", k, strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(v[0]))
		}
	}
	config, err := pgx.ParseConfig(dsn.String())
	if err != nil {
		return nil, errors.New("the settings do not fit together; check host, port and tls") // the library's words would show them
	}
	config.Password = string(l.Password)
	for _, key := range []string{"options", "search_path"} {
		delete(config.RuntimeParams, key)
	}
	config.RuntimeParams["timezone"] = "UTC"
	config.RuntimeParams["datestyle"] = "ISO"
	config.RuntimeParams["intervalstyle"] = "postgres"
	if err := l.secure(config); err != nil {
		return nil, err
	}
	return &reached{name, t, config}, nil
}

// secure gives the library what PEM there is.
func (l *Link) secure(config *pgx.ConnConfig) error {
	if l.TLS == nil {
		return nil
	}
	ours, err := secure.TLS(l.files, string(l.TLS.CA), string(l.TLS.Cert), string(l.TLS.Key), l.TLS.ServerName)
	if err != nil {
		return err
	}
	all := []*tls.Config{config.TLSConfig}
	for _, f := range config.Fallbacks {
		all = append(all, f.TLSConfig)
	}
	for _, c := range all {
		if c == nil {
			continue
		}
		c.RootCAs, c.Certificates, c.MinVersion = ours.RootCAs, ours.Certificates, tls.VersionTLS12
		if l.TLS.ServerName != "" {
			c.ServerName = l.TLS.ServerName
		}
	}
	return nil
}

// databaseOf gives what a connection reaches.
func databaseOf(c *connect.Connection) (*reached, error) {
	l, ok := c.Link.(*Link)
	if !ok {
		return nil, fmt.Errorf("connection %s is not a connection to a database", c.Name)
	}
	r, err := l.reach(c.Name)
	if err != nil {
		return nil, fmt.Errorf("connection %s: %w", c.Name, err)
	}
	return r, nil
}

// open connects.
func (r *reached) open(ctx context.Context) (*pgx.Conn, error) {
	conn, err := pgx.ConnectConfig(ctx, r.config.Copy())
	if err != nil {
		return nil, r.explain(err)
	}
	return conn, nil
}

func (r *reached) close(conn *pgx.Conn) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = conn.Close(ctx) // it says goodbye; whether that arrives changes nothing
}

// explain words what the server or the way to it says, with what to do. It never shows more than the server's own text.
func (r *reached) explain(err error) error {
	var said *pgconn.PgError
	var op *net.OpError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &said):
		return r.said(said)
	case secure.Why(err) != "":
		return fmt.Errorf("%s: %w: %s", r, connect.ErrDenied, secure.Why(err))
	case errors.As(err, &op) && op.Err != nil:
		return fmt.Errorf("%s %w: %s; check that it runs and that the address is right", r, connect.ErrUnreachable, op.Err)
	case errors.Is(err, context.DeadlineExceeded), pgconn.Timeout(err):
		return fmt.Errorf("%s %w: no answer within %s; check that it runs and that the address is right", r, connect.ErrUnreachable, reachIn)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, net.ErrClosed):
		return fmt.Errorf("%s %w: it ended the conversation", r, connect.ErrUnreachable)
	case strings.Contains(err.Error(), "refused TLS"), strings.Contains(err.Error(), "tls:"):
		return fmt.Errorf("%s: %w: TLS does not come about; check tls.mode: %s", r, connect.ErrDenied, last(err.Error()))
	case strings.Contains(err.Error(), "auth"):
		return fmt.Errorf("%s: %w: it asks for a sign-in that would give the password away (%s); use tls.mode: verify-full, or SCRAM", r, connect.ErrDenied, last(err.Error()))
	}
	return fmt.Errorf("%s %w: %s", r, connect.ErrUnreachable, last(err.Error()))
}

// last gives the innermost of an error's words: those around it may show settings.
func last(text string) string {
	if i := strings.LastIndex(text, ": "); i >= 0 {
		return text[i+2:]
	}
	return text
}

// said words an error of the server (PostgreSQL, "Error Codes").
func (r *reached) said(e *pgconn.PgError) error {
	switch {
	case e.Code == "28P01" || e.Code == "28000":
		return fmt.Errorf("%s: %w: %s; check user and password of the connection", r, connect.ErrDenied, e.Message)
	case e.Code == "3D000":
		return fmt.Errorf("%s: %w: %s; name another database, or create it there", r, connect.ErrDenied, e.Message)
	case e.Code == "42501":
		return fmt.Errorf("%s: %w: %s; ask for the right (GRANT), or sign in as another user", r, connect.ErrDenied, e.Message)
	case passes(e):
		return fmt.Errorf("%s %w just now: %s", r, connect.ErrUnreachable, e.Message)
	}
	text := e.Message
	if e.Detail != "" {
		text += " (" + e.Detail + ")"
	}
	return fmt.Errorf("%s: %s (SQLSTATE %s)", r, text, e.Code)
}

// passes says whether an error of the server may pass by itself: it starts or stops, has no room just now, or has ended
// this session or transaction for another.
func passes(e *pgconn.PgError) bool {
	switch e.Code[:2] {
	case "08", "53", "57", "58", "40", "55", "25", "XX":
		return true
	}
	return false
}
