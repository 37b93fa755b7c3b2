package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"undertide/connect"
	"undertide/core/row"
	"undertide/nearest"
)

// longestName is how many bytes names have in PostgreSQL; what is longer is cut off there.
const longestName = 63

// tableName is TABLE or SCHEMA.TABLE.
type tableName string

// UnmarshalText takes names that need no thought: letters, digits and _.
func (t *tableName) UnmarshalText(text []byte) error {
	parts := strings.Split(string(text), ".")
	ok := len(parts) <= 2
	for _, p := range parts {
		ok = ok && p != "" && len(p) <= longestName && !(p[0] >= '0' && p[0] <= '9')
		for _, c := range p {
			ok = ok && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_')
		}
	}
	if !ok {
		return fmt.Errorf("%q is not a name of a table; write table or schema.table, of letters, digits and _", text)
	}
	*t = tableName(text)
	return nil
}

// identifier is the name as the server takes it.
func (t tableName) identifier() pgx.Identifier { return strings.Split(string(t), ".") }

func (t tableName) quoted() string { return t.identifier().Sanitize() }
func (t tableName) String() string { return string(t) }

// beside gives the name of a table in the same schema.
func (t tableName) beside(name string) tableName {
	if schema, _, ok := strings.Cut(string(t), "."); ok {
		return tableName(schema + "." + name)
	}
	return tableName(name)
}

// Tables of ours that stand beside those that are written.
const (
	deliveredTable = "undertide_delivered"
	refusedTable   = "undertide_refused"
)

// table is what a sink writes.
type table struct {
	name   tableName
	fields row.Schema
	key    []string // by which rows are replaced; nil where they are appended
}

// typeOf gives the column type that holds a kind's values (docs/connectors.md, "postgres").
func typeOf(k row.Kind) string {
	switch k {
	case row.Int:
		return "bigint"
	case row.Double:
		return "double precision"
	case row.Bool:
		return "boolean"
	case row.Bytes:
		return "bytea"
	case row.Timestamp:
		return "timestamptz"
	case row.Duration:
		return "interval"
	case row.Decimal:
		return "numeric"
	}
	if !k.Plain() {
		return "jsonb"
	}
	return "text"
}

// fits gives the types, by the server's own names, that take a kind's values without changing them.
func fits(k row.Kind) []string {
	switch k {
	case row.Int:
		return []string{"int8", "int4", "int2", "numeric"}
	case row.Double:
		return []string{"float8", "numeric"}
	case row.Bool:
		return []string{"bool"}
	case row.Bytes:
		return []string{"bytea"}
	case row.Timestamp:
		return []string{"timestamptz", "timestamp"}
	case row.Duration:
		return []string{"interval"}
	case row.Decimal:
		return []string{"numeric"}
	}
	if !k.Plain() {
		return []string{"jsonb", "json", "text"}
	}
	return []string{"text", "varchar", "bpchar", "citext", "uuid", "json", "jsonb"}
}

// definition is the statement that makes the table.
func (t *table) definition() string {
	var b strings.Builder
	fmt.Fprintf(&b, "CREATE TABLE %s (", t.name.quoted())
	for i, f := range t.fields {
		if i > 0 {
			b.WriteString(", ")
		}
		b.WriteString(quote(f.Name) + " " + typeOf(f.Kind))
	}
	if len(t.key) > 0 {
		fmt.Fprintf(&b, ", PRIMARY KEY (%s)", quoteAll(t.key))
	}
	b.WriteString(")")
	return b.String()
}

func quote(name string) string { return pgx.Identifier{name}.Sanitize() }

func quoteAll(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = quote(n)
	}
	return strings.Join(out, ", ")
}

func (t *table) columns() string { return quoteAll(t.fields.Names()) }

// words tell apart what rows that wait are made for: another table, or other columns.
func (t *table) words(connection string) string {
	return fmt.Sprintf("table %s of %s (%s)", t.name, connection, strings.Join(t.fields.Names(), ", "))
}

// column is one of a table that is there.
type column struct {
	name, kind string // pg_type.typname
	required   bool   // not null, and without a default
	made       bool   // by the server, always
	enum       bool
}

// found is a table that is there.
type found struct {
	columns []column
	unique  [][]string // the columns of its primary key and other unique indexes
}

// read asks what the table is like; nil where there is none.
func (t *table) read(ctx context.Context, conn *pgx.Conn) (*found, error) {
	var id *uint32
	if err := conn.QueryRow(ctx, `SELECT to_regclass($1)::oid`, t.name.quoted()).Scan(&id); err != nil {
		return nil, err
	}
	if id == nil {
		return nil, nil
	}
	rows, err := conn.Query(ctx, `SELECT a.attname, t.typname, a.attnotnull AND NOT a.atthasdef AND a.attidentity = '', a.attgenerated <> '' OR a.attidentity = 'a', t.typtype = 'e'
		FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`, *id)
	if err != nil {
		return nil, err
	}
	out := &found{}
	if out.columns, err = pgx.CollectRows(rows, func(r pgx.CollectableRow) (c column, err error) {
		err = r.Scan(&c.name, &c.kind, &c.required, &c.made, &c.enum)
		return c, err
	}); err != nil {
		return nil, err
	}
	rows, err = conn.Query(ctx, `SELECT array_agg(a.attname::text) FROM pg_index i JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey[0:i.indnkeyatts - 1])
		WHERE i.indrelid = $1 AND i.indisunique AND i.indpred IS NULL AND i.indexprs IS NULL AND i.indimmediate GROUP BY i.indexrelid`, *id)
	if err != nil {
		return nil, err
	}
	out.unique, err = pgx.CollectRows(rows, pgx.RowTo[[]string])
	return out, err
}

// compare says for each column whether it goes with what is written, and for the key whether rows can be replaced by it.
func (t *table) compare(f *found) []connect.Step {
	var out []connect.Step
	say := func(what, fault string) {
		s := connect.Step{Name: what, State: "yes", Text: "fits", Needs: connect.ByWriting}
		if fault != "" {
			s.State, s.Text = "no", fault
		}
		out = append(out, s)
	}
	names := make([]string, len(f.columns))
	for i, c := range f.columns {
		names[i] = c.name
	}
	for _, w := range t.fields {
		i := slices.Index(names, w.Name)
		what := fmt.Sprintf("column %s, from a %s", w.Name, w.Kind)
		switch {
		case i < 0 && nearest.Name(w.Name, names) != "":
			say(what, fmt.Sprintf("there is none; %s is near: write columns: {%s: %s}", nearest.Name(w.Name, names), nearest.Name(w.Name, names), w.Name))
		case i < 0:
			say(what, fmt.Sprintf("there is none; ALTER TABLE %s ADD COLUMN %s %s, or leave it out by columns", t.name.quoted(), quote(w.Name), typeOf(w.Kind)))
		case f.columns[i].made:
			say(what, "the server makes its values; leave it out by columns")
		case !slices.Contains(fits(w.Kind), f.columns[i].kind) && !(f.columns[i].enum && w.Kind == row.String):
			say(what, fmt.Sprintf("it is %s there, which does not hold every %s as it is; make it %s, or convert the field by set in a step", f.columns[i].kind, w.Kind, typeOf(w.Kind)))
		default:
			say(what, "")
			out[len(out)-1].Text = f.columns[i].kind
		}
	}
	for _, c := range f.columns {
		if c.required && t.fields.Index(c.name) < 0 {
			say("column "+c.name, "it must have a value, and nothing writes it; add it by columns, or give it a default there")
		}
	}
	if len(t.key) == 0 {
		return out
	}
	unique := slices.ContainsFunc(f.unique, func(u []string) bool {
		return slices.Equal(slices.Sorted(slices.Values(u)), slices.Sorted(slices.Values(t.key)))
	})
	fault := ""
	if !unique {
		fault = fmt.Sprintf("no unique index is over just these; CREATE UNIQUE INDEX ON %s (%s)", t.name.quoted(), quoteAll(t.key))
	}
	say("key "+strings.Join(t.key, ", "), fault)
	return out
}

// noTable says that the table is missing.
type noTable struct{ text string }

func (e noTable) Error() string        { return e.text }
func (e noTable) Is(target error) bool { return target == connect.ErrNoStream }

// ready makes sure that the table is there and takes what is written, and that ours are.
func (w *writer) ready(ctx context.Context, conn *pgx.Conn) error {
	t := w.table
	f, err := t.read(ctx, conn)
	if err != nil {
		return err
	}
	if f == nil && w.create {
		if _, err := conn.Exec(ctx, strings.Replace(t.definition(), "CREATE TABLE", "CREATE TABLE IF NOT EXISTS", 1)); err != nil && !madeMeanwhile(err) {
			return fmt.Errorf("make table %s: %w", t.name, err)
		}
		if f, err = t.read(ctx, conn); err != nil {
			return err
		}
	}
	if f == nil {
		return noTable{fmt.Sprintf("%s has no table %s; create it there, or say create: true beside table, and the run makes it", w.to, t.name)}
	}
	w.binary = true
	for _, x := range t.fields {
		i := slices.IndexFunc(f.columns, func(c column) bool { return c.name == x.Name })
		w.binary = w.binary && i >= 0 && slices.Contains(binaryTypes(x.Kind), f.columns[i].kind)
	}
	var faults []string
	for _, s := range t.compare(f) {
		if s.State == "no" {
			faults = append(faults, s.Name+": "+s.Text)
		}
	}
	if len(faults) > 0 {
		return fmt.Errorf("%w: table %s of %s does not take what is written: %s", connect.ErrUsage, t.name, w.to, strings.Join(faults, "; "))
	}
	_, err = conn.Exec(ctx, fmt.Sprintf(`CREATE TABLE IF NOT EXISTS %s (job text NOT NULL, sink text NOT NULL, epoch bigint NOT NULL, place bigint NOT NULL, run bigint NOT NULL, at timestamptz NOT NULL, PRIMARY KEY (job, sink));
		CREATE TABLE IF NOT EXISTS %s (job text NOT NULL, sink text NOT NULL, "table" text NOT NULL, reason text NOT NULL, "row" text NOT NULL, at timestamptz NOT NULL)`, w.delivered(), w.refusals()))
	if err != nil && !madeMeanwhile(err) {
		return fmt.Errorf("make the tables %s and %s beside it: %w", deliveredTable, refusedTable, err)
	}
	return nil
}

// madeMeanwhile says that two made the same thing at once: it is there.
func madeMeanwhile(err error) bool {
	var said *pgconn.PgError
	return errors.As(err, &said) && (said.Code == "23505" || said.Code == "42P07" || said.Code == "42710")
}
