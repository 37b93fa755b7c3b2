package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Notice is a way to tell people of alarms.
type Notice struct {
	Name       string `gorm:"primaryKey"`
	Text       string // a sink, as it stands below `sinks:` in a document
	Everything bool   // told of every alarm
	UpdatedAt  time.Time
}

// Telling is what a notice is to tell, until it has.
type Telling struct {
	Notice string    `gorm:"primaryKey"`
	Job    string    `gorm:"primaryKey"`
	Alarm  string    `gorm:"primaryKey"`
	State  string    `gorm:"primaryKey"` // on, off
	At     time.Time `gorm:"primaryKey"`
	About  string
	Told   bool `gorm:"-"` // it is no longer to be told
}

// Tell notes behind the caller that something is to be told, or was.
func (s *Store) Tell(t Telling) { s.later(record{Telling: &t}) }

func (t Telling) write(db *gorm.DB) error {
	if t.Told {
		return db.Where("notice = ? AND job = ? AND alarm = ? AND state = ? AND at = ?", t.Notice, t.Job, t.Alarm, t.State, t.At).Delete(&Telling{}).Error
	}
	return addNew(db, []Telling{t})
}

// Tellings lists what is to be told, the oldest first.
func (s *Store) Tellings(ctx context.Context) (out []Telling, err error) {
	err = s.ask(ctx, "list notices", func(db *gorm.DB) error { return db.Order("at").Find(&out).Error })
	return out, err
}

// Notices lists the notices by name.
func (s *Store) Notices(ctx context.Context) ([]Notice, error) {
	return list[Notice](ctx, s, "list notices")
}

// RemoveNotice removes a notice, and what it was to tell; ErrNotFound where there is none.
func (s *Store) RemoveNotice(ctx context.Context, name string) error {
	return s.change(ctx, "remove a notice", func(tx *gorm.DB) error {
		if err := tx.Delete(&Telling{}, "notice = ?", name).Error; err != nil {
			return err
		}
		return found(tx.Delete(&Notice{}, "name = ?", name))
	})
}
