package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
)

// TrailSQL makes the trail as a role that owns it, for a service whose role, named in it as tide, may add lines and read them and no more:
// nothing that the service does can change or remove what stands there (docs/security.md, "The trail"). It may be run again. The table is that of the
// migration, which makes it where nobody has before.
var TrailSQL = trailTable() + "\nGRANT SELECT, INSERT ON trail TO tide;"

// trailTable cuts the making of the table out of its migration.
func trailTable() string {
	text, err := migrations.ReadFile("migrations/00013_people.sql")
	_, table, begins := strings.Cut(string(text), "CREATE TABLE IF NOT EXISTS trail")
	table, _, ends := strings.Cut(table, ";\n")
	if err != nil || !begins || !ends {
		panic("the migration that makes the trail is not as it was") // our own files are wrong; each test of the service would say so
	}
	return "CREATE TABLE IF NOT EXISTS trail" + table + ";"
}

// Line is one of the trail: somebody did something, or was not let.
type Line struct {
	ID      int64 `gorm:"primaryKey;->"` // given by the database
	At      time.Time
	Who     string // as access.Who names them
	Means   string // session, token, machine; empty for nobody
	Address string // where the request came from
	Action  string // the operation, such as save
	Target  string // on what, such as a job's name
	Version int    // of the job; 0 for none
	Outcome string // done, or why not
	Request string // its number, as it stands in the log
}

func (Line) TableName() string { return "trail" }

// Done is the outcome of what was done.
const Done = "done"

// Act is something that is being done, of which a line of the trail is to tell. The first change of records that is made for it takes the
// line along, in one transaction: either both stand, or neither does. One goroutine at a time.
type Act struct {
	Line
	written bool
}

// Written says whether the line stands in the trail, with a change of records.
func (a *Act) Written() bool { return a.written }

type actKey struct{}

// WithAct gives a context for the changes that belong to an act.
func WithAct(ctx context.Context, a *Act) context.Context { return context.WithValue(ctx, actKey{}, a) }

// ActOf gives the act that a context belongs to; nil for none, as of what the service does by itself.
func ActOf(ctx context.Context) *Act {
	a, _ := ctx.Value(actKey{}).(*Act)
	return a
}

// DoneBy names who does what a context belongs to; empty for the service itself, and where nobody had to sign in.
func DoneBy(ctx context.Context) string {
	if act := ActOf(ctx); act != nil && act.Means != "machine" {
		return act.Who
	}
	return ""
}

// AddEventOf is AddEvent of what somebody does.
func (s *Store) AddEventOf(ctx context.Context, e Event) {
	e.DoneBy = DoneBy(ctx)
	s.AddEvent(e)
}

// change is ask for what changes records: in one transaction, with the line of the act that it belongs to.
func (s *Store) change(ctx context.Context, what string, f func(tx *gorm.DB) error) error {
	act, adds := ActOf(ctx), false
	err := s.ask(ctx, what, func(db *gorm.DB) error {
		return db.Transaction(func(tx *gorm.DB) error {
			if err := f(tx); err != nil {
				return err
			}
			if adds = act != nil && !act.written; !adds {
				return nil
			}
			line := act.Line
			line.Outcome = Done
			return tx.Create(&line).Error
		})
	})
	if err == nil && adds {
		act.written = true
	}
	return err
}

// AddLine notes a line behind the caller: of what changed no records, or was not let.
func (s *Store) AddLine(l Line) { s.later(record{Line: &l}) }

// LineQuery says which lines are wanted: of whom, on what, since when, from below a number; empty for all. At most Limit, the newest first.
type LineQuery struct {
	Who, Target string
	Since       time.Time
	Before      int64
	Limit       int
}

// Lines lists the trail, newest first.
func (s *Store) Lines(ctx context.Context, q LineQuery) (out []Line, err error) {
	err = s.ask(ctx, "read the trail", func(db *gorm.DB) error {
		db = db.Order("id DESC").Limit(q.Limit)
		if q.Who != "" {
			db = db.Where("who = ? OR starts_with(who, ?)", q.Who, q.Who+" (")
		}
		if q.Target != "" {
			db = db.Where("target = ? OR starts_with(target, ?)", q.Target, q.Target+" ") // and what belongs to it, such as a job's pin
		}
		if !q.Since.IsZero() {
			db = db.Where("at >= ?", q.Since)
		}
		if q.Before > 0 {
			db = db.Where("id < ?", q.Before)
		}
		return db.Find(&out).Error
	})
	return out, err
}

// TrailIsSafe says whether the service's own role can only read the trail and add to it.
func (s *Store) TrailIsSafe(ctx context.Context) (safe bool, err error) {
	err = s.ask(ctx, "look at the rights on the trail", func(db *gorm.DB) error {
		return db.Raw(`SELECT NOT (pg_has_role(c.relowner, 'USAGE') OR has_table_privilege(c.oid, 'UPDATE') OR has_table_privilege(c.oid, 'DELETE') OR has_table_privilege(c.oid, 'TRUNCATE'))
			FROM pg_class c WHERE c.oid = 'trail'::regclass`).Scan(&safe).Error
	})
	if err != nil {
		return false, fmt.Errorf("the trail: %w", err)
	}
	return safe, nil
}
