package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Token lets whoever has its text do something: post to one source of a job, or what a person may do. Only its digest is kept.
type Token struct {
	ID       int64
	JobID    *int64 // the job that it is for; nil for all
	Source   string // of a poster: the source
	PersonID *int64 // whose it is; nil for one of the job
	Role     string // poster, or what it may do at most
	Name     string // among those of the person, or of the job
	Digest   []byte // SHA-256
	Rate     int64  // of a poster: events a second; 0 for no limit
	MadeAt   time.Time
	EndsAt   *time.Time // nil: never
	UsedAt   *time.Time // about; nil: never
}

// OfJob says whether the token is the job's, and no person's.
func (t *Token) OfJob(job int64) bool { return t.PersonID == nil && t.JobID != nil && *t.JobID == job }

// Tokens lists all tokens of all jobs.
func (s *Store) Tokens(ctx context.Context) (out []Token, err error) {
	err = s.ask(ctx, "list tokens", func(db *gorm.DB) error { return db.Order("id").Find(&out).Error })
	return out, err
}

// AddToken notes a token, whose name the job has not given yet.
func (s *Store) AddToken(ctx context.Context, t *Token) error {
	return s.change(ctx, "note a token", func(db *gorm.DB) error { return db.Create(t).Error })
}

// DeleteToken forgets a token.
func (s *Store) DeleteToken(ctx context.Context, id int64) error {
	return s.change(ctx, "forget a token", func(db *gorm.DB) error { return db.Delete(&Token{}, id).Error })
}

// TokenUsed notes when a token was used last, soon.
func (s *Store) TokenUsed(id int64, at time.Time) { s.later(record{Used: &Token{ID: id, UsedAt: &at}}) }
