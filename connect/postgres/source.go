package postgres

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"strings"
	"time"

	"undertide/connect"
	"undertide/connect/journal"
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/core/row"
)

// source are the settings of a table that goes on (docs/connectors.md, "postgres"): by a column that grows, or by its changes.
type source struct {
	Connection *connect.Connection `set:"connection,required" about:"By its name: of the document, of undertide.yaml, or of the service." missing:"the connection is not named" fix:"add connection: and a name of connections"`
	Table      tableName           `set:"table,once" about:"A table, or with follow a view." hint:"public.berths"`
	Query      string              `set:"query,once" about:"Or what a query gives, with follow." hint:"select * from berths where open"`
	Follow     columnName          `set:"follow" about:"The column by which further rows are found: each has a greater value than those before." hint:"id"`
	Every      time.Duration       `set:"every,free" about:"How often further rows are asked for, with follow." default:"1s"`
	Changes    bool                `set:"changes" about:"Give what is inserted, updated and deleted, by logical decoding; first the rows that are there." default:"false"`
	Slot       slotName            `set:"slot,free" about:"With changes: the name of the server's replication slot, and of the publication. Default: undertide_JOB_SOURCE."`
	Journal    settings.Size       `set:"journal" about:"With changes: disk space for rows and changes that no checkpoint has passed yet." default:"1GiB"`
}

// columnName is the name of a column.
type columnName string

var plainName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// UnmarshalText takes letters, digits and _.
func (n *columnName) UnmarshalText(text []byte) error {
	if !plainName.Match(text) || len(text) > longestName {
		return fmt.Errorf("%q is not a name of a column; use letters, digits and _", text)
	}
	*n = columnName(text)
	return nil
}

// slotName is what servers take for the name of a slot.
type slotName string

var slotShape = regexp.MustCompile(`^[a-z0-9_]{1,63}$`)

// UnmarshalText takes small letters, digits and _.
func (n *slotName) UnmarshalText(text []byte) error {
	if !slotShape.Match(text) {
		return fmt.Errorf("%q is not a name of a slot; use at most 63 small letters, digits and _", text)
	}
	*n = slotName(text)
	return nil
}

// slotOf gives the slot of a source that names none.
func slotOf(job, source string) slotName {
	name := strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= '0' && c <= '9' {
			return c
		}
		return '_'
	}, strings.ToLower("undertide_"+job+"_"+source))
	return slotName(name[:min(len(name), longestName)])
}

// Check asks for one of the two ways.
func (s *source) Check(c *connect.Checker) {
	checkAsked(c)
	switch {
	case s.Changes && c.Has("follow"):
		c.Fault("follow and changes stand together", "keep one of them", "follow")
	case s.Changes && c.Has("query"):
		c.Fault("a query has no changes", "name a table, or give follow: and a column", "query")
	case !s.Changes && !c.Has("follow"):
		c.Fault("it is not said how further rows are found", "add follow: and a column that grows, such as an identity, or changes: true")
	case !s.Changes && c.Has("slot"):
		c.Fault("only changes have a slot", "leave it out, or add changes: true", "slot")
	case !s.Changes && c.Has("journal"):
		c.Fault("only changes have a journal", "leave it out, or add changes: true", "journal")
	case s.Changes && c.Has("every"):
		c.Fault("changes come by themselves", "leave it out", "every")
	}
	if c.Has("every") && s.Every < 10*time.Millisecond {
		c.Fault("the server would be asked without a pause", "give 10ms or more", "every")
	}
	if s.Slot == "" {
		s.Slot = slotOf(c.Job, c.Name)
	}
}

// Reads says what is read.
func (s *source) Reads(*connect.Format) string {
	switch {
	case s.Connection == nil:
		return "a table"
	case s.Changes:
		return "rows and changes of table " + string(s.Table) + " of " + s.Connection.Name + ", by slot " + string(s.Slot)
	}
	return s.asks().called + " of " + s.Connection.Name + " by " + string(s.Follow) + " as it grows"
}

// Unbounded implements [connect.Source].
func (s *source) Unbounded() bool { return true }

// Stream gives the table; empty for a query.
func (s *source) Stream() (*connect.Connection, string) { return s.Connection, string(s.Table) }

// MetaFields implements [connect.Knowing]: what was done, and the values before, where changes are read.
func (s *source) MetaFields(asked []string) row.Schema {
	if !s.Changes {
		return nil
	}
	out := row.Schema{{Name: "meta.change", Kind: row.String, Hidden: true}, {Name: "meta.stored", Kind: row.Timestamp, Hidden: true}, {Name: "meta.lsn", Kind: row.String, Hidden: true}}
	for _, name := range asked {
		if strings.HasPrefix(name, "old.") {
			out = append(out, row.Field{Name: "meta." + name, Kind: row.String, Hidden: true})
		}
	}
	return out
}

// Document says how a document over the table begins: by its changes.
func (s *source) Document() connect.Origin {
	with := func(table, more string) string {
		return "via: postgres\nwith: {connection: " + connect.Quoted(s.Connection.Name) + ", table: " + connect.Quoted(table) + more + "}"
	}
	return connect.Origin{Name: string(s.Table), Plain: true, Stored: true, Once: true, Source: with(string(s.Table), ", changes: true"),
		Sink: func(_, suffix, _ string) string { return with(string(s.Table)+"_"+suffix, ", create: true") }}
}

// HasStored says whether events have a time: changes that at which they were committed.
func (s *source) HasStored() bool { return s.Changes }

func (s *source) asks() asked { return askedOf(s.Table, s.Query) }

// Open reaches the server.
func (s *source) Open(ctx context.Context, o connect.Opening) (opened connect.Opened, err error) {
	to, err := databaseOf(s.Connection)
	if err != nil {
		return opened, err
	}
	if !s.Changes {
		p := &growing{to: to, asked: s.asks(), column: string(s.Follow), every: cmp.Or(s.Every, time.Second)}
		opened.Partitions = []engine.Partition{p}
		return opened, p.try(ctx)
	}
	j, end, err := journal.OpenIn(o.Journal, journal.Options{Limit: int64(s.Journal), Lease: o.Lease, Leased: o.Leased})
	if err != nil {
		return opened, err
	}
	t := newFollower(to, j, s.Table, string(s.Slot), "undertide "+o.Job+"."+o.Name, o.Journal == "")
	t.leased, t.mayAct = o.Lease > 0, o.Leased
	if o.Journal == "" {
		opened.Notes = append(opened.Notes, "the slot ends with this run: it keeps no checkpoints")
	}
	if err := t.start(ctx, len(o.Known) == 0); err != nil {
		t.stop()
		end()
		return opened, err
	}
	opened.Partitions = []engine.Partition{&changed{Partition: journal.NewPartition(j, string(s.Table)), t: t}}
	opened.Close = func() {
		t.stop()
		end()
	}
	return opened, nil
}

// Forget removes the slot and the publication ([connect.Forgetting]).
func (s *source) Forget(ctx context.Context) error {
	if !s.Changes {
		return nil
	}
	to, err := databaseOf(s.Connection)
	if err != nil {
		return err
	}
	conn, err := to.open(ctx)
	if err != nil {
		return err
	}
	defer to.close(conn)
	if _, err := conn.Exec(ctx, "select pg_drop_replication_slot(slot_name) from pg_replication_slots where slot_name = $1", string(s.Slot)); err != nil {
		return to.explain(err)
	}
	_, err = conn.Exec(ctx, "drop publication if exists "+publicationOf(string(s.Slot)))
	return to.explain(err)
}

// Sample takes rows that are there.
func (s *source) Sample(ctx context.Context, _ connect.Opening, which connect.Sampling) (out connect.Sample, err error) {
	to, err := databaseOf(s.Connection)
	if err != nil {
		return out, err
	}
	asks := s.asks()
	if s.Follow != "" && which.From == connect.Newest {
		asks.query = fmt.Sprintf("select * from (select * from (%s\n) t order by %s desc nulls last limit %d) t order by %s", asks.query, quote(string(s.Follow)), which.Rows, quote(string(s.Follow)))
	}
	err = connect.Drain(ctx, &whole{to: to, asked: asks}, which.Rows, &out)
	out.Format = "json"
	for i := range out.Events {
		out.Events[i].Hidden = func(c *row.Column, field string) bool {
			if field == "meta.change" {
				c.AppendString(inserted)
			}
			return field == "meta.change"
		}
	}
	return out, err
}
