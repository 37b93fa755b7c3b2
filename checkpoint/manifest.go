package checkpoint

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/state"
)

const (
	manifestName = "manifest.json"
	storeName    = "store"
	format       = 2
)

// manifest is manifest.json; docs/checkpoints.md describes it.
type manifest struct {
	Format     int                            `json:"format"`
	Job        string                         `json:"job"`
	Document   string                         `json:"document"`
	Pieces     map[string]string              `json:"pieces"` // by kind and name, to tell what is unchanged
	Epoch      int64                          `json:"epoch"`
	Turn       int64                          `json:"turn"`
	Started    time.Time                      `json:"started"`
	Began      time.Time                      `json:"began"` // the mark
	Stall      time.Duration                  `json:"stall"` // nanoseconds: the longest that a lane spent copying
	Written    time.Time                      `json:"written"`
	Finished   bool                           `json:"finished"`
	Partitions []partition                    `json:"partitions"`
	Watermarks map[string]row.Time            `json:"watermarks"` // by source, microseconds
	StepMarks  map[string]row.Time            `json:"step_watermarks"`
	Begun      map[string]map[string]row.Time `json:"begun,omitempty"` // by step and measure, microseconds
	Tables     []table                        `json:"tables"`
	Files      []storeFile                    `json:"files"`
	Changed    changed                        `json:"changed"`   // since the checkpoint before
	Shipments  map[string][]engine.Shipment   `json:"shipments"` // by sink
	Counts     engine.Counts                  `json:"counts"`
	References json.RawMessage                `json:"references,omitempty"` // what rows were looked up in
	// Checksum is the SHA-256 of the manifest with this field empty.
	Checksum string `json:"checksum"`
}

type partition struct {
	Source   string          `json:"source"`
	Name     string          `json:"name"`
	Position json.RawMessage `json:"position,omitempty"`
	Greatest *row.Time       `json:"greatest_event_time,omitempty"` // microseconds
	Ended    bool            `json:"ended"`
	Events   int64           `json:"events"`
}

// table says how rows of a step's table stand in the store.
type table struct {
	Number  state.TableNumber `json:"number"`
	Step    string            `json:"step"`
	Name    string            `json:"table"` // empty for the step's own
	Span    string            `json:"span"`  // empty for none
	Key     []column          `json:"key"`
	Rest    []column          `json:"rest"`
	Columns []column          `json:"columns"`
	Derived bool              `json:"derived,omitempty"` // made anew by a start
}

type column struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
}

// storeFile is a file of the store.
type storeFile struct {
	Name   string `json:"name"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// changed is what was written for a checkpoint.
type changed struct {
	Rows  int64 `json:"rows"`  // that are new or hold something else
	Gone  int64 `json:"gone"`  // that were named as gone, without those that passed with their time
	Bytes int64 `json:"bytes"` // of the sorted tables that they became
}

func columnsOf(s row.Schema) []column {
	out := make([]column, len(s))
	for i, f := range s {
		out[i] = column{f.Name, f.Kind.String()}
	}
	return out
}

func schemaOf(cols []column) (row.Schema, error) {
	var s row.Schema
	for _, c := range cols {
		k, ok := row.ParseKind(c.Kind)
		if !ok {
			return nil, fmt.Errorf("column %s has the unknown kind %s", c.Name, c.Kind)
		}
		s = append(s, row.Field{Name: c.Name, Kind: k})
	}
	return s, nil
}

func tableOf(n state.TableNumber, step string, t *state.Table) table {
	return table{Number: n, Step: step, Name: t.Name, Span: t.Span, Key: columnsOf(t.Key), Rest: columnsOf(t.Rest), Columns: columnsOf(t.Columns), Derived: t.Derived}
}

// declared gives the table as steps declare it.
func (t *table) declared() (*state.Table, error) {
	out := &state.Table{Name: t.Name, Span: t.Span}
	var faults [3]error
	out.Key, faults[0] = schemaOf(t.Key)
	out.Rest, faults[1] = schemaOf(t.Rest)
	out.Columns, faults[2] = schemaOf(t.Columns)
	return out, errors.Join(faults[:]...)
}

// seal writes the manifest with its own checksum, as the last field.
func (m *manifest) seal() ([]byte, error) {
	m.Checksum = ""
	bare, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("write manifest: %w", err)
	}
	m.Checksum = digest(bare)
	at := bytes.LastIndex(bare, []byte(checksumField+`""`)) + len(checksumField) + 1
	return slices.Concat(bare[:at], []byte(m.Checksum), bare[at:]), nil
}

const checksumField = `"checksum": `

// unseal checks the checksum of a manifest's text, byte by byte: reading it as JSON first would
// forgive what JSON forgives, such as another case of a name.
func unseal(text []byte) error {
	at := bytes.LastIndex(text, []byte(checksumField+`"`)) + len(checksumField) + 1
	if at <= len(checksumField) || len(text) < at+64 {
		return errors.New("the manifest has no checksum")
	}
	if digest(slices.Concat(text[:at], text[at+64:])) != string(text[at:at+64]) {
		return errors.New("the manifest's checksum does not agree with its text")
	}
	return nil
}

func digest(b []byte) string {
	h := sha256.Sum256(b)
	return hex.EncodeToString(h[:])
}

// readManifest reads and verifies a manifest's text.
func readManifest(text []byte) (*manifest, error) {
	if err := unseal(text); err != nil {
		return nil, err
	}
	var made struct {
		Format int `json:"format"`
	}
	if err := json.Unmarshal(text, &made); err != nil {
		return nil, fmt.Errorf("the manifest cannot be read: %w", err)
	}
	if made.Format != format {
		return nil, fmt.Errorf("%w: it has format %d, and this one reads format %d; run the job with the version that made it, or begin anew: start it with --fresh, or with an empty folder", ErrFormat, made.Format, format)
	}
	var m manifest
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&m); err != nil { // its text is as it was written: who wrote it knew other fields
		return nil, fmt.Errorf("%w: the manifest has something that this one does not know (%w); run the job with the version that made it, or begin anew: start it with --fresh, or with an empty folder", ErrFormat, err)
	}
	if _, err := d.Token(); err != io.EOF {
		return nil, errors.New("the manifest cannot be read: more text after its end")
	}
	return &m, nil
}

// partitions gives the partitions as runs know them.
func (m *manifest) partitions() (out []engine.PartitionState) {
	for _, p := range m.Partitions {
		q := engine.PartitionState{Source: p.Source, Name: p.Name, Position: p.Position, Greatest: row.MinTime, Ended: p.Ended, Events: p.Events}
		if p.Greatest != nil {
			q.Greatest = *p.Greatest
		}
		out = append(out, q)
	}
	return out
}
