// Package checkpoint keeps snapshots of runs in a folder: one folder a checkpoint, with the state of
// each windowed step as Parquet and a manifest that is written last (docs/checkpoints.md). A snapshot
// counts only once its manifest is there and everything in it verifies. Callers begin with [Open].
package checkpoint

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"undertide/core/engine"
	"undertide/core/row"
)

// ErrDamaged is wrapped where no checkpoint of a folder verifies; the message says what is wrong with
// each.
var ErrDamaged = errors.New("no checkpoint verifies")

// ErrUnreadable is wrapped where a checkpoint could not be read, so that nobody knows whether it is damaged. A
// start goes back to an older one only where the newer is known to be; this one may be whole, and rows that it
// delivered would come again.
var ErrUnreadable = errors.New("a checkpoint cannot be read; mend what keeps it from being read, and start again")

// Store is the checkpoints of one job in a folder. One goroutine at a time.
type Store struct {
	fs     FS
	dir    string
	job    string
	digest string
	pieces map[string]string
	drop   []string
	keep   int
}

// Options say whose checkpoints a folder holds.
type Options struct {
	Job    string
	Digest string // of the document
	// Pieces tells apart the parts of the document that keep something, by kind and name ("step rate"):
	// another version of the document goes on with those that are unchanged. nil: only with all.
	Pieces map[string]string
	// Drop names the parts ("step rate") whose kept things another version may leave behind.
	Drop []string
	Keep int // how many complete checkpoints stay; at least 1
}

const (
	manifestName = "manifest.json"
	format       = 1
)

// manifest is manifest.json; docs/checkpoints.md describes it.
type manifest struct {
	Format     int                        `json:"format"`
	Job        string                     `json:"job"`
	Document   string                     `json:"document"`
	Pieces     map[string]string          `json:"pieces"` // by kind and name, to tell what is unchanged
	Epoch      int64                      `json:"epoch"`
	Turn       int64                      `json:"turn"`
	Started    time.Time                  `json:"started"`
	Written    time.Time                  `json:"written"`
	Finished   bool                       `json:"finished"`
	Partitions []partition                `json:"partitions"`
	Watermarks map[string]row.Time        `json:"watermarks"` // by source, microseconds
	StepMarks  map[string]row.Time        `json:"step_watermarks"`
	Files      []stateFile                `json:"files"`
	Shipments  map[string]json.RawMessage `json:"shipments"`
	Counts     engine.Counts              `json:"counts"`
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

type stateFile struct {
	Name    string   `json:"name"`
	Step    string   `json:"step"`
	Rows    int      `json:"rows"`
	Bytes   int      `json:"bytes"`
	SHA256  string   `json:"sha256"`
	Columns []column `json:"columns"`
}

type column struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
}

// Open makes the folder if need be and removes what interrupted checkpoints left.
func Open(fsys FS, dir string, opt Options) (*Store, error) {
	s := &Store{fs: fsys, dir: dir, job: opt.Job, digest: opt.Digest, pieces: opt.Pieces, drop: opt.Drop, keep: max(1, opt.Keep)}
	if err := fsys.MkdirAll(dir); err != nil {
		return nil, fmt.Errorf("make checkpoint folder: %w", err)
	}
	return s, nil
}

// folderName names the folder of an epoch: eight digits, or as many as it has.
func folderName(epoch int64) string { return fmt.Sprintf("%08d", epoch) }

func (s *Store) folder(epoch int64) string { return filepath.Join(s.dir, folderName(epoch)) }

// epochs lists the checkpoint folders, newest first; complete ones have a manifest.
func (s *Store) epochs() ([]int64, error) {
	names, err := s.fs.ReadDir(s.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read checkpoint folder: %w", err)
	}
	var out []int64
	for _, n := range names {
		if e, err := strconv.ParseInt(n, 10, 64); err == nil && e > 0 && n == folderName(e) {
			out = append(out, e)
		}
	}
	slices.Sort(out)
	slices.Reverse(out)
	return out, nil
}

// Save writes a snapshot: state files first, synced, then the manifest by rename. Afterwards it
// removes the checkpoints beyond those to keep.
func (s *Store) Save(snap *engine.Snapshot) error {
	dir := s.folder(snap.Epoch)
	if err := s.fs.RemoveAll(dir); err != nil { // left by an interrupted try
		return fmt.Errorf("clear %s: %w", dir, err)
	}
	if err := s.fs.MkdirAll(dir); err != nil {
		return fmt.Errorf("make %s: %w", dir, err)
	}
	m := manifest{Format: format, Job: s.job, Document: s.digest, Pieces: s.pieces, Epoch: snap.Epoch, Turn: snap.Turn, Started: snap.Started,
		Written: time.Now().UTC(), Finished: snap.Finished, Shipments: snap.Shipments, Counts: snap.Counts, Watermarks: snap.Watermarks, StepMarks: snap.StepWatermarks}
	for _, p := range snap.Partitions {
		q := partition{Source: p.Source, Name: p.Name, Position: p.Position, Ended: p.Ended, Events: p.Events}
		if p.Greatest != row.MinTime {
			q.Greatest = &p.Greatest
		}
		m.Partitions = append(m.Partitions, q)
	}
	steps := make([]string, 0, len(snap.States))
	for name := range snap.States {
		steps = append(steps, name)
	}
	slices.Sort(steps)
	for _, name := range steps {
		f, err := s.saveState(dir, name, snap.States[name])
		if err != nil {
			return fmt.Errorf("write state of step %s: %w", name, err)
		}
		m.Files = append(m.Files, f)
	}
	text, err := m.seal()
	if err != nil {
		return err
	}
	part := filepath.Join(dir, manifestName+".part")
	if err := s.write(part, text); err != nil {
		return fmt.Errorf("write manifest: %w", err)
	}
	// State files are synced by now: the manifest's name makes the checkpoint count.
	if err := s.fs.SyncDir(dir); err != nil {
		return fmt.Errorf("sync %s: %w", dir, err)
	}
	if err := s.fs.Rename(part, filepath.Join(dir, manifestName)); err != nil {
		return fmt.Errorf("complete the checkpoint: %w", err)
	}
	if err := s.fs.SyncDir(dir); err != nil {
		return fmt.Errorf("sync %s: %w", dir, err)
	}
	if err := s.fs.SyncDir(s.dir); err != nil {
		return fmt.Errorf("sync %s: %w", s.dir, err)
	}
	return s.prune(snap.Epoch)
}

func (s *Store) write(path string, text []byte) error {
	f, err := s.fs.Create(path)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Sync(), f.Close())
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

// prune keeps the newest complete checkpoints.
func (s *Store) prune(newest int64) error {
	epochs, err := s.epochs()
	if err != nil {
		return err
	}
	kept := 0
	for _, e := range epochs {
		if e <= newest && kept < s.keep {
			kept++
			continue
		}
		if e > newest {
			continue
		}
		if err := s.fs.RemoveAll(s.folder(e)); err != nil {
			return fmt.Errorf("remove old checkpoint %d: %w", e, err)
		}
	}
	return nil
}

// Passed is a checkpoint that was passed over, and why.
type Passed struct {
	Epoch int64
	Why   string
}

// Newest reads the newest checkpoint that verifies; nil when the folder has none at all. Checkpoints
// that do not verify are passed over and named; when none of them does, ErrDamaged is returned. One that cannot be
// read is not passed over: ErrUnreadable is returned.
// Highest is the greatest epoch of any kind in the folder, so that epochs are never used twice.
func (s *Store) Newest() (snap *engine.Snapshot, passed []Passed, highest int64, err error) {
	epochs, err := s.epochs()
	if err != nil || len(epochs) == 0 {
		return nil, nil, 0, err
	}
	complete := 0
	for _, e := range epochs {
		snap, err := s.load(e)
		if err == nil {
			return snap, passed, epochs[0], nil
		}
		if errors.Is(err, errOther) || errors.Is(err, ErrUnreadable) {
			return nil, passed, epochs[0], err
		}
		if !errors.Is(err, errIncomplete) {
			complete++
		}
		passed = append(passed, Passed{Epoch: e, Why: err.Error()})
	}
	if complete == 0 {
		return nil, passed, epochs[0], nil // the very first one was interrupted: nothing was delivered
	}
	var why []string
	for _, p := range passed {
		why = append(why, fmt.Sprintf("%d: %s", p.Epoch, p.Why))
	}
	return nil, passed, epochs[0], fmt.Errorf("%w in %s (%s)", ErrDamaged, s.dir, strings.Join(why, "; "))
}

var (
	errIncomplete = errors.New("it was interrupted before it was complete")
	errOther      = errors.New("it belongs to another job or document")
)

func (s *Store) load(epoch int64) (*engine.Snapshot, error) {
	dir := s.folder(epoch)
	text, err := s.fs.ReadFile(filepath.Join(dir, manifestName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, errIncomplete
	}
	if err != nil {
		return nil, fmt.Errorf("%w: read manifest of checkpoint %d in %s: %w", ErrUnreadable, epoch, s.dir, err)
	}
	m, err := readManifest(text)
	if err != nil {
		return nil, err
	}
	if m.Job != s.job {
		return nil, fmt.Errorf("%w: %s holds checkpoints of job %s, not %s; give this job a folder of its own", errOther, s.dir, m.Job, s.job)
	}
	changed := m.Document != s.digest
	if changed {
		if m.Pieces == nil || s.pieces == nil {
			return nil, fmt.Errorf("%w: the checkpoints in %s were made by another text of job %s; put the old document back, or begin anew with an empty folder", errOther, s.dir, s.job)
		}
		if must := MustDrop(Compare(m.Pieces, s.pieces), s.drop); len(must) > 0 {
			return nil, fmt.Errorf("%w: another text of job %s made the checkpoints in %s, and what it kept for %s does not fit any more; drop it with --drop, put the old document back, or begin anew", errOther, s.job, s.dir, strings.Join(must, ", "))
		}
	}
	snap := &engine.Snapshot{Epoch: m.Epoch, Turn: m.Turn, Started: m.Started, Finished: m.Finished, Shipments: m.Shipments, Counts: m.Counts, Watermarks: m.Watermarks, StepWatermarks: m.StepMarks, States: map[string][]*row.Batch{}}
	for _, p := range m.Partitions {
		q := engine.PartitionState{Source: p.Source, Name: p.Name, Position: p.Position, Greatest: row.MinTime, Ended: p.Ended, Events: p.Events}
		if p.Greatest != nil {
			q.Greatest = *p.Greatest
		}
		snap.Partitions = append(snap.Partitions, q)
	}
	for _, f := range m.Files {
		b, err := s.loadState(dir, f)
		if err != nil {
			return nil, fmt.Errorf("state file %s: %w", f.Name, err)
		}
		snap.States[f.Step] = append(snap.States[f.Step], b)
	}
	if changed {
		s.adapt(snap, m)
	}
	return snap, nil
}

// readManifest reads and verifies a manifest's text.
func readManifest(text []byte) (*manifest, error) {
	if err := unseal(text); err != nil {
		return nil, err
	}
	var m manifest
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&m); err != nil {
		return nil, fmt.Errorf("the manifest cannot be read: %w", err)
	}
	if _, err := d.Token(); err != io.EOF {
		return nil, errors.New("the manifest cannot be read: more text after its end")
	}
	if m.Format != format {
		return nil, fmt.Errorf("the manifest has format %d, and this program reads format %d", m.Format, format)
	}
	return &m, nil
}
