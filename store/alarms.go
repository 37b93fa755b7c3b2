package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Alarm is a time during which an alarm of a job was on.
type Alarm struct {
	ID     int64 `gorm:"primaryKey"`
	JobID  int64
	Name   string
	Text   string
	OnAt   time.Time
	OffAt  *time.Time // nil while it is on
	SeenAt *time.Time
	SeenBy string
}

// Rule is an alarm of all jobs that somebody has changed or made.
type Rule struct {
	Name      string `gorm:"primaryKey"`
	Condition string // empty: as usual
	About     string
	Lasting   int64 // microseconds
	Off       bool
	Notify    string // names of notices, with commas between
}

// AlarmOn writes behind the caller that an alarm is on, and AlarmOff that it is no longer.
func (s *Store) AlarmOn(a Alarm) { s.later(record{Alarm: &a}) }

// AlarmOff writes behind the caller when an alarm that was on is off.
func (s *Store) AlarmOff(job int64, name string, at time.Time) {
	s.later(record{Alarm: &Alarm{JobID: job, Name: name, OffAt: &at}})
}

func (a Alarm) write(db *gorm.DB) error {
	if a.OffAt != nil {
		return db.Model(&Alarm{}).Where("job_id = ? AND name = ? AND off_at IS NULL AND on_at <= ?", a.JobID, a.Name, *a.OffAt).Update("off_at", *a.OffAt).Error
	}
	return addNew(db, []Alarm{a})
}

// AlarmQuery chooses alarms; zero values choose all.
type AlarmQuery struct {
	Job    int64
	On     bool  // only those that are on
	Before int64 // below this number
	Limit  int
}

// Alarms lists alarms, the newest first.
func (s *Store) Alarms(ctx context.Context, q AlarmQuery) (out []Alarm, err error) {
	err = s.ask(ctx, "list alarms", func(db *gorm.DB) error {
		db = db.Order("id DESC").Limit(q.Limit)
		if q.Job > 0 {
			db = db.Where("job_id = ?", q.Job)
		}
		if q.On {
			db = db.Where("off_at IS NULL")
		}
		if q.Before > 0 {
			db = db.Where("id < ?", q.Before)
		}
		return db.Find(&out).Error
	})
	return out, err
}

// See notes that somebody has seen an alarm; ErrNotFound where there is none of the number.
func (s *Store) See(ctx context.Context, id int64, by string, at time.Time) (out Alarm, err error) {
	err = s.change(ctx, "note that an alarm was seen", func(db *gorm.DB) error {
		done := db.Model(&Alarm{}).Where("id = ?", id).Updates(map[string]any{"seen_at": at, "seen_by": by})
		if err := found(done); err != nil {
			return err
		}
		return db.Take(&out, id).Error
	})
	return out, err
}

// Rules lists the alarms of all jobs that were changed or made, by name.
func (s *Store) Rules(ctx context.Context) ([]Rule, error) { return list[Rule](ctx, s, "list alarms") }
