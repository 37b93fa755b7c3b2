// Package postgres writes tables of PostgreSQL, and reads them whole, as they grow, or by their changes, over pgx (docs/connectors.md, "postgres"). Rows are encoded as the lines of
// COPY's text format (PostgreSQL, "COPY", File Formats) and go out in transactions: of an epoch that waited for its
// checkpoint, with the epoch in a table beside ([Once]), or as they are made ([Made]).
package postgres

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"undertide/connect"
	"undertide/connect/settings"
	"undertide/connect/staging"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/disk"
)

// Kind are tables of PostgreSQL.
var Kind = &connect.Kind{
	Name: "postgres", Noun: "table", About: "tables of PostgreSQL",
	Source:    func() connect.Source { return &source{} },
	Sink:      func() connect.Sink { return &sink{} },
	Link:      func() connect.Link { return &Link{} },
	Reference: func() connect.Source { return &reading{} },
	AtStream: func(c *connect.Connection, table string) (connect.Source, error) {
		s := &source{Connection: c, Changes: true}
		return s, s.Table.UnmarshalText([]byte(table))
	},
	SourceExample: connect.Example{Name: "changes of a table", About: "its rows, and what is inserted, updated and deleted",
		Lines: "via: postgres\nwith: {connection: CONNECTION, table: NAME, changes: true}"},
	SinkExample: connect.Example{Name: "table", About: "rows of a table, which is made where it is missing",
		Lines: "via: postgres\nwith: {connection: CONNECTION, table: NAME, create: true}"},
	ReferenceExample: connect.Example{Name: "table", About: "rows of a table or query, read anew from time to time",
		Lines: "via: postgres\nwith: {connection: CONNECTION, table: NAME}\nfields: {id: string, name: string}\nkey: [id]\nrefresh: 1m"},
}

// Link are the settings of a connection to a database (docs/connectors.md, "Connections").
type Link struct {
	_        struct{} `later:"brokers,sasl,registry,address"`
	files    *disk.Files
	URL      urlText             `set:"url" label:"address (URL)" hint:"postgres://user@host:5432/database" about:"All of it as one address, without the password."`
	Host     string              `set:"host" hint:"10.0.0.7, or the folder of a socket" about:"Where the server is: a name, an address, or the folder of its socket."`
	Port     int                 `set:"port" least:"1" most:"65535" default:"5432" about:"Its port."`
	Database string              `set:"database" hint:"harbour" about:"The database; default: the user's name."`
	User     string              `set:"user" hint:"tide" about:"Who signs in."`
	Password settings.SecretText `set:"password" about:"The password: ${secret.NAME} or ${env.NAME}."`
	TLS      *struct {
		Mode       string           `set:"mode" choices:"disable,allow,prefer,require,verify-ca,verify-full" default:"prefer" about:"How far TLS is asked for, as clients of PostgreSQL say it (sslmode)."`
		CA         settings.PEMText `set:"ca" label:"authority (PEM)" about:"The authority that signed the server's certificate: PEM, or the path of a file of it." hint:"empty: the system's authorities"`
		Cert       settings.PEMText `set:"cert" label:"certificate (PEM)" about:"This side's certificate: PEM, or the path of a file of it."`
		Key        settings.KeyText `set:"key" about:"Its key: ${secret.NAME}, ${env.NAME}, or the path of a file." hint:"${secret.NAME}, or the path of a file"`
		ServerName string           `set:"server_name" label:"name in its certificate" about:"The name in the server's certificate, where it is not that of its address." hint:"empty: the server's address"`
	} `set:"tls" label:"TLS" about:"Reach it over TLS."`
}

// LinkTo gives the settings of a connection to a database that an address with a password names.
func LinkTo(address string) (*Link, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, errors.New("it is not an address of a database") // the error would show the password
	}
	l := &Link{Host: u.Hostname(), User: u.User.Username(), Database: strings.TrimPrefix(u.Path, "/")}
	if h := u.Query().Get("host"); h != "" {
		l.Host = h
	}
	if u.Port() != "" {
		if l.Port, err = strconv.Atoi(u.Port()); err != nil {
			return nil, errors.New("it is not an address of a database")
		}
	}
	password, _ := u.User.Password()
	l.Password = settings.SecretText(password)
	return l, nil
}

// urlText is postgres://user@host:port/database?sslmode=….
type urlText string

// UnmarshalText takes the address of a database, and no password in it.
func (u *urlText) UnmarshalText(text []byte) error {
	at, err := url.Parse(string(text))
	switch {
	case err != nil || at.Scheme != "postgres" && at.Scheme != "postgresql" || at.Host == "" && at.Query().Get("host") == "":
		return fmt.Errorf("it is not an address of a database; write postgres://user@host:5432/database")
	case hasPassword(at):
		return fmt.Errorf("the password stands in the clear; take it out of url, and add password: ${secret.NAME}, or ${env.NAME}")
	}
	for name := range at.Query() {
		if name != "sslmode" && name != "host" {
			return fmt.Errorf("%s is not taken in url; leave it out", name)
		}
	}
	if mode := at.Query().Get("sslmode"); mode != "" && !isMode(mode) {
		return fmt.Errorf("%s is not a sslmode; write one of %s", mode, strings.Join(modes, ", "))
	}
	*u = urlText(text)
	return nil
}

func hasPassword(u *url.URL) bool {
	_, has := u.User.Password()
	return has || u.Query().Has("password")
}

var modes = []string{"disable", "allow", "prefer", "require", "verify-ca", "verify-full"}

func isMode(s string) bool { return strings.Contains(" "+strings.Join(modes, " ")+" ", " "+s+" ") }

// target is a link with all that follows from it.
type target struct {
	host, port, database, user, mode string
}

func (l *Link) target() target {
	t := target{host: l.Host, port: "5432", database: l.Database, user: l.User, mode: "prefer"}
	if l.Port > 0 {
		t.port = strconv.Itoa(l.Port)
	}
	if l.URL != "" {
		u, _ := url.Parse(string(l.URL)) // it was read
		t.host, t.user, t.database = u.Hostname(), u.User.Username(), strings.TrimPrefix(u.Path, "/")
		if h := u.Query().Get("host"); h != "" {
			t.host = h
		}
		if u.Port() != "" {
			t.port = u.Port()
		}
		if mode := u.Query().Get("sslmode"); mode != "" {
			t.mode = mode
		}
	}
	if l.TLS != nil && l.TLS.Mode != "" {
		t.mode = l.TLS.Mode
	}
	if t.database == "" {
		t.database = t.user
	}
	return t
}

func (t target) socket() bool { return strings.HasPrefix(t.host, "/") }

func (t target) address() string {
	if t.socket() {
		return t.host
	}
	return net.JoinHostPort(t.host, t.port)
}

// onLoopback says whether nobody can listen on the way.
func (t target) onLoopback() bool {
	ip := net.ParseIP(t.host)
	return t.socket() || t.host == "localhost" || ip != nil && ip.IsLoopback()
}

// Check says whether it is clear what is reached, and as whom.
func (l *Link) Check(c *connect.Checker) {
	l.files = c.Files
	switch {
	case l.URL == "" && l.Host == "":
		if !c.Has("url") {
			c.Fault("the server is not named", "add url: postgres://user@host:5432/database, or host:")
		}
		return
	case l.URL != "":
		for _, name := range []string{"host", "port", "database", "user"} {
			if c.Has(name) {
				c.Fault("url says the "+name+" already", "leave one of them out", name)
			}
		}
	}
	if l.target().user == "" {
		c.Fault("nobody is named who signs in", "add user:, or write it into url", "user")
	}
	if l.TLS == nil {
		return
	}
	if c.Has("tls", "cert") != c.Has("tls", "key") {
		c.Fault("cert and key belong together", "give both or none", "tls")
	}
	if mode := l.target().mode; c.Has("tls", "ca") && mode != "verify-ca" && mode != "verify-full" {
		c.Fault("nobody looks at the certificate by mode "+mode, "write mode: verify-full, or verify-ca", "tls", "mode")
	}
}

// Words says what is reached, how, and who signs in.
func (l *Link) Words() connect.LinkWords {
	t := l.target()
	w := connect.LinkWords{Reaches: t.address(), SignIn: t.user + " into " + t.database}
	switch t.mode {
	case "disable":
		w.Way = "in the clear"
	case "allow", "prefer":
		w.Way = "TLS where the server has it"
	case "require":
		w.Way = "TLS, whoever answers"
	default:
		w.Way = "TLS"
	}
	if t.socket() {
		w.Way = "a socket of this machine"
	}
	return w
}

// Look makes a looker; the server is reached by its methods.
func (l *Link) Look(name string) (connect.Looker, error) {
	r, err := l.reach(name)
	if err != nil {
		return nil, err
	}
	return &Looker{r}, nil
}

// sink are the settings of a table that is written.
type sink struct {
	Connection *connect.Connection `set:"connection,required" about:"By its name: of the document, of undertide.yaml, or of the service." missing:"the connection is not named" fix:"add connection: and a name of connections"`
	Table      tableName           `set:"table,required" about:"The table." missing:"the table is not named" fix:"add table: and its name" hint:"public.means"`
	Create     bool                `set:"create,free" label:"make the table" about:"Make the table where it is missing." default:"false"`
	Replace    bool                `set:"replace" label:"the newest row of a key counts" about:"A row takes the place of the one of its identity, and a withdrawn row removes it." default:"false"`
	Key        settings.FieldNames `set:"key,beside" label:"by these fields" hint:"fields, with commas between" about:"By which a row replaces another, where nothing else tells rows apart."`
}

func (s *sink) Check(c *connect.Checker) {
	if c.Has("key") && !s.Replace {
		c.Fault("a table whose rows are not replaced has no key", "add replace: true, or leave key out", "key")
	}
	if c.Has("encode") {
		c.Fault("a table has columns, and no format", "leave encode out", "encode")
	}
	for _, i := range c.Schema.Visible() {
		if name := c.Schema[i].Name; len(name) > longestName {
			c.Fault(fmt.Sprintf("%s is longer than the name of a column, which has %d bytes", name, longestName), "rename it by columns", "columns")
		}
	}
	if s.Replace && len(s.Key) == 0 && len(c.Schema) > 0 {
		c.Fault("there is one row only, which no key tells apart", "add key: and fields of a step that has them", "replace")
	}
}

func (s *sink) Atomic() bool { return true }

func (s *sink) Stream() (*connect.Connection, string) { return s.Connection, string(s.Table) }

// Makes says whether the table is made where it is missing.
func (s *sink) Makes() bool { return s.Create }

// Replaces says whether a row takes the place of the one of its identity.
func (s *sink) Replaces() (bool, []string) { return s.Replace, s.Key }

// ReplaceBy is told the identity.
func (s *sink) ReplaceBy(key []string) { s.Key = key }

// Target tells tables apart: two sinks that replace rows of one would undo each other's.
func (s *sink) Target() (string, func(other string) (message, remedy string)) {
	if !s.Replace || s.Connection == nil {
		return "", nil
	}
	return s.Connection.Name + " " + string(s.Table), func(other string) (string, string) {
		return "sink " + other + " writes the same table", "give each a table of its own, or let one sink take from both steps"
	}
}

func (s *sink) Words(_ *connect.Format, schema row.Schema, d connect.Delivering) connect.SinkWords {
	w := connect.SinkWords{Writes: connect.StreamText(s), Delivery: d.AtLeastOnce(s.Replace), AsMade: !d.Once || !d.Kept}
	if s.Replace {
		w.Writes += ", replaced by " + strings.Join(s.Key, ", ")
	}
	if d.Once && d.Kept {
		w.Delivery = d.WithCheckpoints() + ", in one transaction that also keeps its number in " + s.Table.beside(deliveredTable).String()
	}
	if s.Create {
		w.Makes = s.table(schema).definition() + ", unless it is there"
	}
	return w
}

func (s *sink) table(schema row.Schema) *table {
	t := &table{name: s.Table}
	if s.Replace {
		t.key = s.Key
	}
	for _, i := range schema.Visible() {
		t.fields = append(t.fields, schema[i])
	}
	return t
}

func (s *sink) Open(_ context.Context, o connect.Opening) (engine.Sink, error) {
	r, err := databaseOf(s.Connection)
	if err != nil {
		return nil, err
	}
	w := &writer{to: r, table: s.table(o.Schema), create: s.Create, job: o.Job, sink: o.Name}
	if o.Shipments != "" {
		return newOnce(w, staging.New(o.Shipments, o.Name, w.table.words(s.Connection.Name))), nil
	}
	return newMade(w), nil
}

func (s *sink) Place(string, bool) string { return connect.StreamText(s) }

// Written gives the newest rows of the table ([connect.Readable]): by the end of their window, else by the first time that they have, else as they were
// written last.
func (s *sink) Written(ctx context.Context, o connect.Opening, rows int) (out connect.Sample, err error) {
	to, err := databaseOf(s.Connection)
	if err != nil {
		return out, err
	}
	order := "ctid"
	for _, f := range o.Schema {
		if f.Kind == row.Timestamp && (order == "ctid" || f.Name == "window_end") {
			order = quote(f.Name)
		}
	}
	asks := askedOf(s.Table, "")
	asks.query = fmt.Sprintf("%s order by %s desc nulls last limit %d", asks.query, order, rows)
	err = connect.Drain(ctx, &whole{to: to, asked: asks}, rows, &out)
	out.Format = "json"
	slices.Reverse(out.Events)
	return out, err
}

// Fit compares what is written with the table that is there, a step for each column.
func (s *sink) Fit(ctx context.Context, schema row.Schema) ([]connect.Step, error) {
	l, err := databaseOf(s.Connection)
	if err != nil {
		return nil, err
	}
	conn, err := l.open(ctx)
	if err != nil {
		return nil, err
	}
	defer l.close(conn)
	t := s.table(schema)
	found, err := t.read(ctx, conn)
	if err != nil || found == nil {
		return nil, err
	}
	return t.compare(found), nil
}
