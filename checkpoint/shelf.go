package checkpoint

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/cockroachdb/pebble/v2/vfs"
)

// Shelf keeps the checkpoints of a generation of a job in a [Place], so that another node can go on from them. Runs work in a folder of their own machine,
// as they do without nodes; Put brings a checkpoint that is complete there to the place, and Settle brings the one that counts from there.
//
// Which one counts is not for the place to say: a node that was cut off may put another one there at any time. The records of the nodes say it
// (package lease), by the text that Put gives, which holds the name and the digest of what was put. So nothing in the place is ever written twice: each
// name begins with the number of the lease of who wrote it. What a lease wrote is removed by that lease or by a later one.
//
//	jobs/rates/3/00000041-7.json          checkpoint 41 as lease 7 made it: its manifest, small files, and where the others lie
//	jobs/rates/3/files/7-9f86d081…        a sorted table that lease 7 wrote; checkpoints 42-7 and 43-8 may name it, too
//
// One goroutine at a time.
type Shelf struct {
	FS        vfs.FS // of this machine
	Place     Place
	Within    string // in the place: jobs/JOB/GENERATION
	Dir       string // of the generation, on this machine
	Shipments string // the folder of rows that wait for their delivery, on this machine
	Lease     int64

	inline int64               // of what size files stand in the index; 0: mostInline
	held   map[string]string   // where files lie that the newest checkpoint names, by digest
	kept   []shelved           // checkpoints that are in the place and known here, oldest first
	gone   map[string]struct{} // names that are to be removed, where that failed
}

// shelved is a checkpoint in a place.
type shelved struct {
	name  string
	files []string // where its files lie
}

// index is what lies in the place of a checkpoint.
type index struct {
	Manifest string      `json:"manifest"`
	Again    string      `json:"again,omitempty"` // see againName
	Files    []indexFile `json:"files"`           // of the store of state
	Rows     []indexFile `json:"rows"`            // that wait for their delivery
}

// indexFile is one file: its text where it is small, else where it lies.
type indexFile struct {
	Name   string `json:"name"`
	SHA256 string `json:"sha256"`
	Text   []byte `json:"text,omitempty"`
	At     string `json:"at,omitempty"`
}

// mostInline is the size up to which a file's text stands in the index.
const mostInline = 64 << 10

// Put brings a checkpoint of the folder to the place. The text that it gives is what Settle needs of it; nothing counts before the records of the nodes hold
// that. written is how many bytes were new.
func (s *Shelf) Put(ctx context.Context, epoch int64) (place string, written int64, err error) {
	store := &Store{fs: s.FS, dir: s.Dir}
	dir := store.folder(epoch)
	text, err := store.readFile(path.Join(dir, manifestName))
	if err != nil {
		return "", 0, fmt.Errorf("read checkpoint %d: %w", epoch, err)
	}
	m, err := readManifest(text)
	if err != nil {
		return "", 0, fmt.Errorf("read checkpoint %d: %w", epoch, err)
	}
	x := index{Manifest: string(text)}
	again, err := store.readFile(path.Join(s.Dir, againName))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", 0, err
	}
	x.Again = string(again)
	held := map[string]string{}
	for _, f := range m.Files {
		one, n, err := s.putFile(ctx, path.Join(dir, storeName, f.Name), f.Name, f.SHA256, held)
		if err != nil {
			return "", 0, err
		}
		written += n
		x.Files = append(x.Files, one)
	}
	for _, sink := range m.Shipments {
		for _, sh := range sink {
			for _, name := range sh.Files {
				one, n, err := s.putFile(ctx, path.Join(s.Shipments, name), name, "", held)
				if errors.Is(err, fs.ErrNotExist) { // it was delivered meanwhile
					continue
				}
				if err != nil {
					return "", 0, err
				}
				written += n
				x.Rows = append(x.Rows, one)
			}
		}
	}
	all, err := json.Marshal(x)
	if err != nil {
		return "", 0, err
	}
	name := path.Join(s.Within, fmt.Sprintf("%s-%d.json", folderName(epoch), s.Lease))
	if err := s.Place.Put(ctx, name, bytes.NewReader(all), int64(len(all))); err != nil {
		return "", 0, fmt.Errorf("put checkpoint %d into %s: %w", epoch, s.Place, err)
	}
	s.held = held
	one := shelved{name: name}
	for _, f := range slices.Concat(x.Files, x.Rows) {
		if f.At != "" {
			one.files = append(one.files, f.At)
		}
	}
	s.kept = append(s.kept, one)
	return name + " " + digest(all), written + int64(len(all)), nil
}

// putFile brings a file to the place, unless the checkpoint before named it. sum is its digest; empty where it is not known.
func (s *Shelf) putFile(ctx context.Context, from, name, sum string, held map[string]string) (one indexFile, written int64, err error) {
	if sum == "" {
		f, err := digestOf(s.FS, from)
		if err != nil {
			return one, 0, err
		}
		sum = f.SHA256
	}
	one = indexFile{Name: name, SHA256: sum}
	if one.At = s.held[sum]; one.At != "" {
		held[sum] = one.At
		return one, 0, nil
	}
	f, err := s.FS.Open(from)
	if err != nil {
		return one, 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return one, 0, err
	}
	size := info.Size()
	if size <= cmp.Or(s.inline, mostInline) {
		one.Text, err = io.ReadAll(f)
		return one, 0, err
	}
	one.At = path.Join(s.Within, "files", fmt.Sprintf("%d-%s", s.Lease, sum))
	if err := s.Place.Put(ctx, one.At, io.NewSectionReader(f, 0, size), size); err != nil {
		return one, 0, fmt.Errorf("put %s into %s: %w", name, s.Place, err)
	}
	held[sum] = one.At
	return one, size, nil
}

// Thin removes from the place what no checkpoint needs of those that are to be kept, the newest ones. It is called once the newest counts.
func (s *Shelf) Thin(ctx context.Context, keep int) error {
	n := max(0, len(s.kept)-max(1, keep))
	if s.gone == nil {
		s.gone = map[string]struct{}{}
	}
	for _, one := range s.kept[:n] {
		s.gone[one.name] = struct{}{}
		for _, f := range one.files {
			s.gone[f] = struct{}{}
		}
	}
	s.kept = slices.Delete(s.kept, 0, n)
	for _, one := range s.kept {
		for _, f := range one.files {
			delete(s.gone, f)
		}
	}
	for name := range s.gone {
		if err := s.Place.Remove(ctx, name); err != nil {
			return fmt.Errorf("remove what is not needed any more from %s: %w", s.Place, err)
		}
		delete(s.gone, name)
	}
	return nil
}

// Settle makes the folder hold the checkpoint that counts, of which Put gave the text, as its newest: whatever does not count goes, and what is lacking comes from the
// place. Without a text there is none, and the folder is emptied of checkpoints.
func (s *Shelf) Settle(ctx context.Context, epoch int64, text string) error {
	store := &Store{fs: s.FS, dir: s.Dir}
	if err := s.FS.MkdirAll(s.Dir, 0o700); err != nil {
		return err
	}
	if text == "" {
		return s.clear(store, 0)
	}
	x, m, name, err := s.read(ctx, epoch, text)
	if err != nil {
		return err
	}
	here, err := store.readFile(path.Join(store.folder(epoch), manifestName))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if string(here) == x.Manifest {
		err = s.clear(store, epoch)
	} else {
		if err = s.clear(store, 0); err == nil {
			err = s.fetch(ctx, store, x, m)
		}
	}
	if err != nil {
		return err
	}
	s.held, s.kept, s.gone = map[string]string{}, []shelved{{name: name}}, map[string]struct{}{}
	for _, f := range slices.Concat(x.Files, x.Rows) {
		if f.At != "" {
			s.held[f.SHA256] = f.At
			s.kept[0].files = append(s.kept[0].files, f.At)
		}
	}
	all, err := s.Place.List(ctx, s.Within+"/")
	if err != nil {
		return fmt.Errorf("list %s: %w", s.Place, err)
	}
	for _, other := range all { // what leases of before left; it goes once there is a newer checkpoint
		if other != name && !slices.Contains(s.kept[0].files, other) {
			s.gone[other] = struct{}{}
		}
	}
	return s.fetchRows(ctx, x)
}

// read reads what lies in the place of a checkpoint.
func (s *Shelf) read(ctx context.Context, epoch int64, text string) (x index, m *manifest, name string, err error) {
	name, sum, ok := strings.Cut(text, " ")
	if !ok {
		return x, nil, "", fmt.Errorf("what the records say of checkpoint %d cannot be read: %s", epoch, text)
	}
	all, err := s.get(ctx, name)
	if err != nil {
		return x, nil, "", fmt.Errorf("%w: checkpoint %d in %s: %w", ErrUnreadable, epoch, s.Place, err)
	}
	if digest(all) != sum {
		return x, nil, "", fmt.Errorf("%w: %s in %s is not as it was written", ErrDamaged, name, s.Place)
	}
	if err := json.Unmarshal(all, &x); err != nil {
		return x, nil, "", fmt.Errorf("%w: %s in %s: %w", ErrDamaged, name, s.Place, err)
	}
	m, err = readManifest([]byte(x.Manifest))
	return x, m, name, err
}

func (s *Shelf) get(ctx context.Context, name string) ([]byte, error) {
	in, err := s.Place.Get(ctx, name)
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(in)
	return text, errors.Join(err, in.Close())
}

// clear removes the checkpoints of the folder beyond one; 0 removes all.
func (s *Shelf) clear(store *Store, beyond int64) error {
	epochs, err := store.epochs()
	if err != nil {
		return err
	}
	for _, e := range epochs {
		if e > beyond || beyond == 0 {
			if err := s.FS.RemoveAll(store.folder(e)); err != nil {
				return fmt.Errorf("remove checkpoint %d, which does not count: %w", e, err)
			}
		}
	}
	return nil
}

// fetch brings a checkpoint from the place.
func (s *Shelf) fetch(ctx context.Context, store *Store, x index, m *manifest) error {
	dir := store.folder(m.Epoch)
	within := path.Join(dir, storeName)
	if err := s.FS.MkdirAll(within, 0o700); err != nil {
		return err
	}
	for _, f := range x.Files {
		if err := s.fetchFile(ctx, store, within, f); err != nil {
			return err
		}
	}
	if err := store.sync(within); err != nil {
		return err
	}
	if x.Again != "" {
		if err := store.write(path.Join(s.Dir, againName), []byte(x.Again)); err != nil {
			return err
		}
	}
	return store.completeAs(dir, []byte(x.Manifest))
}

// Look reads what a checkpoint in the place says of itself, of which Put gave the text.
func (s *Shelf) Look(ctx context.Context, epoch int64, text string) (Info, error) {
	_, m, _, err := s.read(ctx, epoch, text)
	if err != nil {
		return Info{}, err
	}
	return m.info(), nil
}

// Bring puts a checkpoint into the folder, which is empty, of which Put gave the text; without its state where that is not wanted.
func (s *Shelf) Bring(ctx context.Context, epoch int64, text string, state bool) error {
	x, m, _, err := s.read(ctx, epoch, text)
	if err != nil {
		return err
	}
	if !state {
		x.Files = nil
	}
	return s.fetch(ctx, &Store{fs: s.FS, dir: s.Dir}, x, m)
}

// fetchFile brings one file into a folder.
func (s *Shelf) fetchFile(ctx context.Context, store *Store, dir string, f indexFile) error {
	if !filepath.IsLocal(f.Name) {
		return fmt.Errorf("the name %s leaves the folder", f.Name)
	}
	to := path.Join(dir, f.Name)
	if within := path.Dir(to); within != dir {
		if err := s.FS.MkdirAll(within, 0o700); err != nil {
			return err
		}
	}
	if f.At == "" {
		if err := store.write(to, f.Text); err != nil {
			return err
		}
	} else if err := s.copyFrom(ctx, f.At, to); err != nil {
		return fmt.Errorf("%w: %s in %s: %w", ErrUnreadable, f.At, s.Place, err)
	}
	got, err := digestOf(s.FS, to)
	if err == nil && got.SHA256 != f.SHA256 {
		err = fmt.Errorf("%w: %s in %s is not as it was written", ErrDamaged, f.At, s.Place)
	}
	return err
}

func (s *Shelf) copyFrom(ctx context.Context, name, to string) error {
	in, err := s.Place.Get(ctx, name)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := s.FS.Create(to, vfs.WriteCategoryUnspecified)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}

// fetchRows brings the rows that wait for their delivery, as far as they are not here.
func (s *Shelf) fetchRows(ctx context.Context, x index) error {
	if len(x.Rows) == 0 {
		return nil
	}
	store := &Store{fs: s.FS, dir: s.Dir}
	if err := s.FS.MkdirAll(s.Shipments, 0o700); err != nil {
		return err
	}
	for _, f := range x.Rows {
		if got, err := digestOf(s.FS, path.Join(s.Shipments, f.Name)); err == nil && got.SHA256 == f.SHA256 {
			continue
		}
		if err := s.fetchFile(ctx, store, s.Shipments, f); err != nil {
			return err
		}
	}
	return store.sync(s.Shipments)
}

// NewestIn gives the epoch of the newest checkpoint of a folder that is complete; 0 for none.
func NewestIn(fsys vfs.FS, dir string) (int64, error) {
	m, err := (&Store{fs: fsys, dir: dir}).newest()
	if m == nil || err != nil {
		return 0, err
	}
	return m.Epoch, nil
}

// ShelfOf is where the checkpoints of a job lie in a place.
func ShelfOf(job string) string { return path.Join("jobs", job) }

// ShelfIn is where those of a generation do.
func ShelfIn(job string, generation int) string {
	return path.Join(ShelfOf(job), strconv.Itoa(generation))
}
