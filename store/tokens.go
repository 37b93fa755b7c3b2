package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Token lets whoever has its text post to one source. Only its digest is kept.
type Token struct {
	ID     int64
	JobID  int64
	Source string
	Name   string
	Digest []byte // SHA-256
	Rate   int64  // events a second; 0 for no limit
	MadeAt time.Time
	UsedAt *time.Time // about; nil: never
}

// Tokens lists all tokens of all jobs.
func (s *Store) Tokens(ctx context.Context) (out []Token, err error) {
	err = s.ask(ctx, "list tokens", func(db *gorm.DB) error { return db.Order("id").Find(&out).Error })
	return out, err
}

// AddToken notes a token, whose name the job has not given yet.
func (s *Store) AddToken(ctx context.Context, t *Token) error {
	return s.ask(ctx, "note a token", func(db *gorm.DB) error { return db.Create(t).Error })
}

// DeleteToken forgets a token.
func (s *Store) DeleteToken(ctx context.Context, id int64) error {
	return s.ask(ctx, "forget a token", func(db *gorm.DB) error { return db.Delete(&Token{}, id).Error })
}

// TokenUsed notes when a token was used last, soon.
func (s *Store) TokenUsed(id int64, at time.Time) { s.later(record{Used: &Token{ID: id, UsedAt: &at}}) }
