package store

import (
	"context"
	"crypto/sha256"
	"database/sql/driver"
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"
)

// Point is the figures of a job over a step of a tier that begins at a moment.
type Point struct {
	JobID    int64     `gorm:"primaryKey"`
	Tier     int       `gorm:"primaryKey"`
	At       time.Time `gorm:"primaryKey"`
	Shape    int64     // of the names
	Means    Reals     // by name; NaN for what was not known
	Greatest Reals
}

// Shape is the names of figures, in the order of their values.
type Shape struct {
	ID    int64 `gorm:"primaryKey"`
	Names Names
}

// ShapeOf gives the shape of some names. It follows from them, so that whoever writes need not ask.
func ShapeOf(names []string) Shape {
	d := sha256.Sum256([]byte(strings.Join(names, "\x00")))
	return Shape{ID: int64(binary.LittleEndian.Uint64(d[:8])), Names: names}
}

// Reals are numbers as the database's real[].
type Reals []float32

// Value implements [driver.Valuer].
func (r Reals) Value() (driver.Value, error) {
	b := make([]byte, 0, 2+10*len(r))
	b = append(b, '{')
	for i, v := range r {
		if i > 0 {
			b = append(b, ',')
		}
		b = strconv.AppendFloat(b, float64(v), 'g', -1, 32)
	}
	return string(append(b, '}')), nil
}

// MarshalJSON writes what waits in the journal of records, where NaN has no number.
func (r Reals) MarshalJSON() ([]byte, error) {
	v, err := r.Value()
	return []byte(strconv.Quote(fmt.Sprint(v))), err
}

// UnmarshalJSON reads it again.
func (r *Reals) UnmarshalJSON(text []byte) error {
	s, err := strconv.Unquote(string(text))
	if err != nil {
		return err
	}
	return r.Scan(s)
}

// Scan implements sql.Scanner.
func (r *Reals) Scan(from any) error {
	*r = (*r)[:0]
	return elements(from, func(text string) error {
		v, err := strconv.ParseFloat(text, 32)
		*r = append(*r, float32(v))
		return err
	})
}

// Names are texts of letters, digits and dots, as the database's text[].
type Names []string

// Value implements [driver.Valuer].
func (n Names) Value() (driver.Value, error) { return `{"` + strings.Join(n, `","`) + `"}`, nil }

// Scan implements sql.Scanner.
func (n *Names) Scan(from any) error {
	*n = (*n)[:0]
	return elements(from, func(text string) error {
		*n = append(*n, strings.Trim(text, `"`))
		return nil
	})
}

// elements takes the elements of an array as the database writes it: {a,b}.
func elements(from any, take func(string) error) error {
	var text string
	switch x := from.(type) {
	case string:
		text = x
	case []byte:
		text = string(x)
	default:
		return fmt.Errorf("%T is not an array", from)
	}
	if text = strings.TrimSuffix(strings.TrimPrefix(text, "{"), "}"); text == "" {
		return nil
	}
	for part := range strings.SplitSeq(text, ",") {
		if err := take(part); err != nil {
			return err
		}
	}
	return nil
}

// Batch are points of one job, with the shapes that they name.
type Batch struct {
	Shapes []Shape `json:"shapes"`
	Points []Point `json:"points"`
}

// AddPoints writes points behind the caller. What is there already stays.
func (s *Store) AddPoints(b Batch) { s.later(record{Points: &b}) }

// Points lists those of a job and tier from one moment to before another, oldest first, with the names of each shape.
func (s *Store) Points(ctx context.Context, job int64, tier int, from, to time.Time) (out []Point, names map[int64][]string, err error) {
	err = s.ask(ctx, "read figures", func(db *gorm.DB) error {
		if err := db.Where("job_id = ? AND tier = ? AND at >= ? AND at < ?", job, tier, from, to).Order("at").Find(&out).Error; err != nil {
			return err
		}
		names = map[int64][]string{}
		var ids []int64
		for _, p := range out {
			if _, known := names[p.Shape]; !known {
				names[p.Shape] = nil
				ids = append(ids, p.Shape)
			}
		}
		var shapes []Shape
		if len(ids) > 0 {
			if err := db.Find(&shapes, "id IN ?", ids).Error; err != nil {
				return err
			}
		}
		for _, sh := range shapes {
			names[sh.ID] = sh.Names
		}
		return nil
	})
	return out, names, err
}

// Between lists the history of a job from one moment to before another, oldest first; at most limit, the newest.
func (s *Store) Between(ctx context.Context, job int64, from, to time.Time, limit int) (out []Event, err error) {
	err = s.ask(ctx, "read the history", func(db *gorm.DB) error {
		return db.Raw("SELECT * FROM (SELECT * FROM history WHERE job_id = ? AND at >= ? AND at < ? ORDER BY at DESC LIMIT ?) h ORDER BY at", job, from, to, limit).Scan(&out).Error
	})
	return out, err
}

// FailedCheckpoints lists checkpoints of a job that were begun from one moment to before another and did not come to be, oldest first.
func (s *Store) FailedCheckpoints(ctx context.Context, job int64, from, to time.Time, limit int) (out []Checkpoint, err error) {
	err = s.ask(ctx, "list checkpoints", func(db *gorm.DB) error {
		return db.Raw("SELECT c.* FROM checkpoints c JOIN runs r ON r.id = c.run_id WHERE r.job_id = ? AND c.fault <> '' AND c.written_at >= ? AND c.written_at < ? ORDER BY c.written_at LIMIT ?", job, from, to, limit).Scan(&out).Error
	})
	return out, err
}

// Kept is how long points of a tier are kept.
type Kept struct {
	Tier int
	For  time.Duration
}

// ThinPoints removes the points that are older than their tier is kept. Shapes stay: they are few.
func (s *Store) ThinPoints(ctx context.Context, tiers []Kept) error {
	now := time.Now().UTC()
	for _, k := range tiers {
		q := "DELETE FROM points WHERE ctid IN (SELECT ctid FROM points WHERE tier = ? AND at < ? LIMIT ?)"
		if err := s.inParts(ctx, q, k.Tier, now.Add(-k.For), thinBatch); err != nil {
			return err
		}
	}
	return nil
}
