package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Connection is a named way to reach a broker. Definition is JSON, in which secrets are named only.
type Connection struct {
	Name       string `gorm:"primaryKey"`
	Definition string
	UpdatedAt  time.Time
}

// Secret is a sealed text (package secret).
type Secret struct {
	Name      string `gorm:"primaryKey"`
	Sealed    []byte
	UpdatedAt time.Time
	Addresses []string `gorm:"serializer:json"` // that it may be sent to; none before its first use
}

// Described is a described source: a description that several jobs may take over.
type Described struct {
	Name      string `gorm:"primaryKey"`
	About     string
	Text      string
	UpdatedAt time.Time
}

func (Described) TableName() string { return "catalogue" }

// Connections lists all connections by name.
func (s *Store) Connections(ctx context.Context) ([]Connection, error) {
	return list[Connection](ctx, s, "list connections")
}

// Secrets lists all secrets by name, sealed.
func (s *Store) Secrets(ctx context.Context) ([]Secret, error) {
	return list[Secret](ctx, s, "list secrets")
}

// PutSecrets stores all of some secrets in place of those of their names, or none.
func (s *Store) PutSecrets(ctx context.Context, all []Secret) error {
	return s.change(ctx, "store the secrets", func(tx *gorm.DB) error {
		for _, one := range all {
			if err := tx.Model(&Secret{}).Where("name = ?", one.Name).Update("sealed", one.Sealed).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// Sources lists all described sources by name.
func (s *Store) Sources(ctx context.Context) ([]Described, error) {
	return list[Described](ctx, s, "list described sources")
}

func list[T any](ctx context.Context, s *Store, what string) (out []T, err error) {
	err = s.ask(ctx, what, func(db *gorm.DB) error { return db.Order("name").Find(&out).Error })
	return out, err
}

// Named are records that have their name for a key.
type Named interface {
	Connection | Secret | Described | Notice | Rule
}

// Put stores one, in place of that of its name.
func Put[T Named](ctx context.Context, s *Store, v T) error {
	return s.change(ctx, "store it", func(db *gorm.DB) error { return db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&v).Error })
}

// Remove deletes one by its name; ErrNotFound where there is none.
func Remove[T Named](ctx context.Context, s *Store, name string) error {
	return s.change(ctx, "remove it", func(db *gorm.DB) error {
		var v T
		return found(db.Where("name = ?", name).Delete(&v))
	})
}
