package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Person is somebody who may sign in, or for whom there are tokens.
type Person struct {
	ID         int64
	Name       string
	Role       string // reader, engineer, keeper
	Email      string // by which single sign-on knows them; empty: it does not
	Password   string // argon2id; empty: none
	Generation int    // sessions that began in another one have ended
	MadeAt     time.Time
	SeenAt     *time.Time // about; nil: never
}

func (Person) TableName() string { return "people" }

// Code lets a person in once, to choose a password. Only its digest is kept.
type Code struct {
	Digest   []byte `gorm:"primaryKey"` // SHA-256
	PersonID int64
	EndsAt   time.Time
}

// Session is one of a browser; its data are the session library's.
type Session struct {
	Digest string `gorm:"primaryKey"`
	Data   []byte
	EndsAt time.Time
}

// People lists all people by name.
func (s *Store) People(ctx context.Context) ([]Person, error) {
	return list[Person](ctx, s, "list people")
}

// AddPerson notes somebody whose name nobody has; with a code that lets them in, or nil.
func (s *Store) AddPerson(ctx context.Context, p *Person, code *Code) error {
	return s.change(ctx, "note a person", func(tx *gorm.DB) error {
		p.ID = 0 // where this is done again
		if err := tx.Create(p).Error; err != nil {
			return err
		}
		if code == nil {
			return nil
		}
		code.PersonID = p.ID
		return tx.Create(code).Error
	})
}

// UpdatePerson stores what changed of somebody; ErrNotFound where they are gone. With code they get one, and lose those of before; with
// used those of before are gone, too.
func (s *Store) UpdatePerson(ctx context.Context, p Person, code *Code, used bool) error {
	return s.change(ctx, "change a person", func(tx *gorm.DB) error {
		done := tx.Model(&Person{}).Where("id = ?", p.ID).Select("role", "email", "password", "generation").Updates(&p)
		if err := found(done); err != nil {
			return err
		}
		if code != nil || used {
			if err := tx.Where("person_id = ?", p.ID).Delete(&Code{}).Error; err != nil {
				return err
			}
		}
		if code != nil {
			return tx.Create(code).Error
		}
		return nil
	})
}

// DeletePerson removes somebody with their tokens and codes.
func (s *Store) DeletePerson(ctx context.Context, id int64) error {
	return s.change(ctx, "remove a person", func(tx *gorm.DB) error { return tx.Delete(&Person{}, id).Error })
}

// PersonSeen notes when somebody was here last, soon.
func (s *Store) PersonSeen(id int64, at time.Time) {
	s.later(record{Seen: &Person{ID: id, SeenAt: &at}})
}

// Codes lists all codes.
func (s *Store) Codes(ctx context.Context) (out []Code, err error) {
	err = s.ask(ctx, "list codes", func(db *gorm.DB) error { return db.Find(&out).Error })
	return out, err
}

// Sessions lists all sessions that have not ended, and forgets the others.
func (s *Store) Sessions(ctx context.Context) (out []Session, err error) {
	err = s.ask(ctx, "list sessions", func(db *gorm.DB) error {
		if err := db.Where("ends_at < ?", time.Now()).Delete(&Session{}).Error; err != nil {
			return err
		}
		return db.Find(&out).Error
	})
	return out, err
}

// PutSession stores a session in place of that of its digest.
func (s *Store) PutSession(ctx context.Context, v Session) error {
	return s.ask(ctx, "note a session", func(db *gorm.DB) error { return db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&v).Error })
}

// DeleteSession forgets a session.
func (s *Store) DeleteSession(ctx context.Context, digest string) error {
	return s.ask(ctx, "forget a session", func(db *gorm.DB) error { return db.Where("digest = ?", digest).Delete(&Session{}).Error })
}
