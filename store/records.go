package store

import (
	"encoding/json"
	"time"
)

// Job is a saved job.
type Job struct {
	ID         int64 `gorm:"primaryKey"`
	Name       string
	CreatedAt  time.Time
	Generation int   // of its checkpoint folder
	LastEpoch  int64 // the greatest that any of its runs has used
	// SpanOf is the job whose document it reads over a span; empty for a job of its own. SpanBegin and SpanUntil are as
	// `begin` and `until` of a document.
	SpanOf, SpanBegin, SpanUntil string
	// PortionOf is the spread job that this one is a portion of, portion number Portion of part Part, both from 0; empty for a job of its own.
	PortionOf     string
	Part, Portion int
	Division      string   // of a portion: what becomes of it where its job is divided anew, as the service writes it; empty for nothing
	Owners        []string `gorm:"serializer:json"` // who may change it, beside keepers; none: every engineer
}

// Version is an immutable copy of a job's document.
type Version struct {
	JobID     int64 `gorm:"primaryKey"`
	Number    int   `gorm:"primaryKey"`
	Document  string
	About     string
	CreatedAt time.Time
	SavedBy   string // empty where nobody had to sign in
}

// Run is one start of one version.
type Run struct {
	ID         int64 `gorm:"primaryKey"`
	JobID      int64
	Version    int
	Status     string
	Wanted     bool // whether the service goes on with it after a restart
	StartedAt  time.Time
	EndedAt    *time.Time
	Error      string
	Lanes      int
	SetValues  map[string]string `gorm:"serializer:json"`
	DropParts  []string          `gorm:"serializer:json"`
	SkipEvents []string          `gorm:"serializer:json"` // that are set aside
	Generation int
	Restarts   int
	Drains     bool   // its sources are told to end where they stand
	Rested     bool   // it has come to rest, so that what it keeps can be divided
	Crashes    int    // boots of the service in a row that crashed while it was at work
	Node       string // that carried it out last; empty where there are none
}

// Checkpoint is a line of the list of checkpoints; the checkpoint itself is in its folder.
type Checkpoint struct {
	RunID        int64 `gorm:"primaryKey"`
	Epoch        int64 `gorm:"primaryKey"`
	Generation   int
	WrittenAt    time.Time
	Seconds      float64
	StallSeconds float64
	Bytes        int64
	Finished     bool
	Partitions   []Stretch `gorm:"serializer:json"`
	RowsChanged  int64     // of state, since the one before
	RowsGone     int64
	NewBytes     int64 // that were written for it
	// Fault is why it is not complete; empty for one that is.
	Fault string
}

// Pin is a checkpoint that is kept under a name; it has a folder of its own.
type Pin struct {
	JobID     int64  `gorm:"primaryKey"`
	Name      string `gorm:"primaryKey"`
	Epoch     int64
	RunID     int64 // that made it
	At        time.Time
	WrittenAt time.Time // when the checkpoint was
	Place     string    // of it where all nodes reach it; empty where there are none
}

// Stretch is what a checkpoint's interval read of a partition.
type Stretch struct {
	Source string          `json:"source"`
	Name   string          `json:"name"`
	From   json.RawMessage `json:"from"` // null for the beginning
	To     json.RawMessage `json:"to"`
	Events int64           `json:"events"` // between them
}

// Event is something that happened to a job.
type Event struct {
	ID    int64 `gorm:"primaryKey"`
	JobID int64
	RunID *int64
	At    time.Time
	Kind  string // saved, started, running, resuming, stopped, finished, failed, trouble, well, passed
	Text  string
	// DoneBy is who did it; empty for what happened by itself, or where nobody had to sign in.
	DoneBy string
}

func (Event) TableName() string { return "history" }
