// Package api is what travels between a service and its clients: the types of the API's answers, the
// catalogue of problems, and the OpenAPI page that describes both (docs/commands.md, "API"). It does
// nothing by itself.
package api

//go:generate go run ./generate

import (
	_ "embed"
	"encoding/json"
	"time"

	"undertide/run"
)

// OpenAPI is the page that describes the API, version 3.0, as JSON.
//
//go:embed openapi.json
var OpenAPI []byte

// Job is a job as lists show it.
type Job struct {
	Name      string    `json:"name"`
	About     string    `json:"about"`
	Version   int       `json:"version"` // the newest
	CreatedAt time.Time `json:"created_at"`
	// Status is that of the newest run; "saved" where there is none yet.
	Status string `json:"status"`
	Since  string `json:"since"` // RFC 3339: when the status began
	Run    *Run   `json:"run"`   // the newest; null for none
	// Live is what is known of a run that goes on; null otherwise.
	Live *Live `json:"live"`
}

// Run is one start of one version.
type Run struct {
	ID        int64             `json:"id"`
	Job       string            `json:"job"`
	Version   int               `json:"version"`
	Status    string            `json:"status"`
	StartedAt time.Time         `json:"started_at"`
	EndedAt   *time.Time        `json:"ended_at"`
	Error     string            `json:"error"`
	Lanes     int               `json:"lanes"`
	Set       map[string]string `json:"set"`
	Restarts  int               `json:"restarts"`
}

// Live tells in a few figures how a run goes.
type Live struct {
	// Sentence says in words how the run is.
	Sentence string `json:"sentence"`
	// Trouble is what keeps the run from its work; empty for nothing.
	Trouble       string   `json:"trouble"`
	LagEvents     *int64   `json:"lag_events"` // null where it cannot be known
	LagSeconds    *float64 `json:"lag_seconds"`
	LagTrend      string   `json:"lag_trend"`        // holding, growing or shrinking
	CatchUp       *float64 `json:"catch_up_seconds"` // null when the lag does not shrink
	InPerSecond   float64  `json:"in_per_second"`
	OutPerSecond  float64  `json:"out_per_second"`
	Watermark     *string  `json:"watermark"`
	WatermarkAge  *float64 `json:"watermark_age_seconds"`
	Late          int64    `json:"late"`
	Rejected      int64    `json:"rejected"`
	CheckpointAge *float64 `json:"checkpoint_age_seconds"`
	Restarts      int      `json:"restarts"`
	HeldUpBy      string   `json:"held_up_by"` // in words; empty for nothing
}

// Figures are a run's figures at a moment, with rates over the last seconds.
type Figures struct {
	run.Figures
	At    time.Time `json:"at"`
	Live  Live      `json:"live"`
	Rates Rates     `json:"rates"`
}

// Rates are rows a second by name, and the shares of lanes' time, over the last seconds.
type Rates struct {
	Sources map[string]float64  `json:"sources"`
	Steps   map[string]StepRate `json:"steps"`
	Sinks   map[string]float64  `json:"sinks"`
}

// StepRate is a step's part of [Rates].
type StepRate struct {
	In      float64 `json:"in"`
	Out     float64 `json:"out"`
	Busy    float64 `json:"busy_share"`
	Blocked float64 `json:"blocked_share"`
}

// Version is a saved document.
type Version struct {
	Job       string    `json:"job"`
	Number    int       `json:"number"`
	About     string    `json:"about"`
	CreatedAt time.Time `json:"created_at"`
	Document  string    `json:"document,omitempty"` // left out of lists
}

// Diff is what differs between two versions.
type Diff struct {
	A    int    `json:"a"`
	B    int    `json:"b"`
	Text string `json:"text"` // unified; empty where they are equal
}

// Saved is the answer to a document that was saved.
type Saved struct {
	Version
	Stored   bool     `json:"stored"` // false: it equals the newest version
	Warnings []string `json:"warnings"`
}

// Start is how a run is asked for.
type Start struct {
	Version int               `json:"version,omitempty"` // 0: the newest
	Resume  string            `json:"resume,omitempty"`  // last (default) or fresh
	Lanes   int               `json:"lanes,omitempty"`
	Set     map[string]string `json:"set,omitempty"`
}

// Started is the answer to a start.
type Started struct {
	Run   Run      `json:"run"`
	Notes []string `json:"notes"` // what people should know of it
}

// Checkpoint is a line of a run's catalogue.
type Checkpoint struct {
	Epoch        int64     `json:"epoch"`
	WrittenAt    time.Time `json:"written_at"`
	Seconds      float64   `json:"seconds"`
	StallSeconds float64   `json:"longest_stall_seconds"`
	Bytes        int64     `json:"bytes"`
	Finished     bool      `json:"finished"`
	Kept         bool      `json:"kept"` // whether its folder is still there
	Partitions   []Stretch `json:"partitions"`
}

// Stretch is what a checkpoint's interval read of a partition.
type Stretch struct {
	Source string          `json:"source"`
	Name   string          `json:"name"`
	From   json.RawMessage `json:"from"`
	To     json.RawMessage `json:"to"`
	Events int64           `json:"events"`
}

// Event is a line of a job's history.
type Event struct {
	ID   int64     `json:"id"`
	At   time.Time `json:"at"`
	Run  *int64    `json:"run"`
	Kind string    `json:"kind"`
	Text string    `json:"text"`
}

// LogLine is a line of a job's log.
type LogLine struct {
	At      time.Time      `json:"at"`
	Level   string         `json:"level"`
	Message string         `json:"message"`
	Fields  map[string]any `json:"fields"`
}

// Row is a published row.
type Row struct {
	Seq int64           `json:"seq"` // of the step in this run, from 1
	At  time.Time       `json:"at"`  // when it was published
	Row json.RawMessage `json:"row"`
}

// Rows are the rows of a step that are kept for looking, newest first.
type Rows struct {
	Step    string   `json:"step"`
	Fields  []Field  `json:"fields"`
	Key     []string `json:"key"`     // fields of the key; empty for none
	Passed  int64    `json:"passed"`  // rows that the step has published in this run
	Skipped int64    `json:"skipped"` // of them, not kept since they came too fast
	Rows    []Row    `json:"rows"`
}

// Field is a field of a row.
type Field struct {
	Name string `json:"name"`
	Type string `json:"type"`
}

// Sample is a run's live figures at a moment of the past.
type Sample struct {
	At   time.Time `json:"at"`
	Live Live      `json:"live"`
}

// Page is a part of a list, newest first. Next is what to give as `before` for the following part;
// empty at the end.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next"`
}

// Status is how the service is.
type Status struct {
	Version     string            `json:"version"`
	Ready       bool              `json:"ready"`
	StartedAt   time.Time         `json:"started_at"`
	Database    Health            `json:"database"`
	Waiting     int               `json:"records_waiting"`
	Connections map[string]Health `json:"connections"` // of the runs that go on
	Jobs        map[string]int    `json:"jobs"`        // how many by status
}

// Overview is what the stream of jobs gives every second.
type Overview struct {
	Items  []Job  `json:"items"`
	Status Status `json:"status"`
}

// Health says whether something outside answers.
type Health struct {
	Well  bool       `json:"well"`
	Why   string     `json:"why,omitempty"`
	Since *time.Time `json:"since,omitempty"`
}
