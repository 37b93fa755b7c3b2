package file

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"undertide/connect"
	"undertide/connect/pattern"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/disk"
)

// DefaultRoll is the size at which a rolled file is closed and the next one begun.
const DefaultRoll = 128 << 20

// mostOpen bounds the files of a folder that are written at a time; the one that was written longest ago is closed for another. Of files that
// are packed as they are written, each takes memory.
const (
	mostOpen   = 64
	mostPacked = 8
)

// Rolled says how a folder's files are named and closed.
type Rolled struct {
	Size  int64         // at which a file is closed; 0 for the default
	Every time.Duration // after which a file is closed; 0: with its epoch
	// Folders names the folder of a row within that of the sink; the zero text for none.
	Folders pattern.Text
}

// Folder is a sink of rolled files, NAME-EPOCH-N.ndjson, EPOCH and N of when each was begun. They are written aside as .part and synced.
// When the checkpoint that ends the epoch in which they are closed is complete they are renamed, and the marker NAME.delivered, which holds that
// epoch, is replaced last (docs/connectors.md, "file").
//
// Without Every all files are closed with their epoch: a reader that takes only files with an epoch up to the marker's sees whole epochs. With it
// a file may stay open over many epochs. Each checkpoint then holds how long it is, and a start cuts it back to that.
type Folder struct {
	Output
	dir, called string
	rolled      Rolled
	epoch       int64
	leased      bool     // a lease says whose the folder is; whoever has lost it may hold the lock still
	first       int64    // the first epoch of this run
	left        []string // files that were gone on with as copies, until a checkpoint names those; Open writes it, then Deliver
	along       string   // of files that the checkpoint takes along: their folder within that of shipments; empty for none
	lock        *os.File
	now         func() time.Time

	open map[string]*rolling // by their folder within dir
	// resting: the next Prepare closes all.
	resting bool
	turn    int64           // counts writes
	synced  int64           // the turn up to which open files are synced
	named   map[string]bool // folders that got a name since they were synced
	begun   int             // files of this epoch
	closed  []string        // in this epoch: final names, within dir
	bytes   int64           // of those
	piece   []byte
}

// rolling is a file that is written.
type rolling struct {
	name   string
	out    *disk.Output
	packer connect.Packer // of its rows; nil where they are lines, or lie aside in pieces
	pieces bool           // rows lie aside, to be packed when it is closed
	size   int64
	begun  time.Time
	used   int64 // when it was written last, by turn
}

// NewFolder makes a sink named name that writes into dir.
func NewFolder(dir, name string, rolled Rolled, o Output) *Folder {
	rolled.Size = cmp.Or(rolled.Size, DefaultRoll)
	return &Folder{Output: o, dir: dir, called: name, rolled: rolled, open: map[string]*rolling{}, named: map[string]bool{}, now: time.Now}
}

// folderShipment is what a checkpoint holds of an epoch: the files that were closed in it, and those that were open at its end.
type folderShipment struct {
	Files []string   `json:"files"`
	Open  []openFile `json:"open,omitempty"`
}

type openFile struct {
	Name  string    `json:"name"`
	Bytes int64     `json:"bytes"`
	Begun time.Time `json:"begun"`
}

// read takes a shipment apart; its files lie within the folder.
func (s *Folder) read(from engine.Shipment) (sh folderShipment, err error) {
	if err := json.Unmarshal(from.Data, &sh); err != nil {
		return sh, fmt.Errorf("read what the checkpoint says of %s: %w", s.dir, err)
	}
	names := slices.Clone(sh.Files)
	for _, f := range sh.Open {
		names = append(names, f.Name)
	}
	for _, name := range names {
		if !filepath.IsLocal(name) {
			return sh, fmt.Errorf("the checkpoint names the file %s, which is not in %s", name, s.dir)
		}
	}
	return sh, nil
}

func (s *Folder) path(name string) string { return filepath.Join(s.dir, name) }
func (s *Folder) marker() string          { return s.path(s.called + ".delivered") }

// part and packedPart are where a file is before it has its name: its rows, and what was packed of rows that lay aside.
func part(path string) string       { return path + ".part" }
func packedPart(path string) string { return path + ".packed.part" }

// Delivered gives the epoch that the folder says was delivered last; 0 for none.
func (s *Folder) Delivered(context.Context) (int64, error) { return s.delivered() }

func (s *Folder) delivered() (int64, error) {
	b, err := s.Files.ReadFile(s.marker(), 1<<16)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, disk.Explain("read", s.marker(), err)
	}
	var m struct{ Epoch int64 }
	if err := json.Unmarshal(b, &m); err != nil {
		return 0, fmt.Errorf("%s cannot be read (%w); move the folder's files elsewhere and start again", s.marker(), err)
	}
	return m.Epoch, nil
}

// Open takes the folder, removes what an interrupted epoch left, and goes on with the files that the checkpoint says were open.
func (s *Folder) Open(waiting []engine.Shipment, epoch int64) (err error) {
	defer func() {
		if err != nil { // whoever comes next may have it
			err = errors.Join(err, s.Abort())
		}
	}()
	if err := s.take(); err != nil {
		return err
	}
	done, err := s.delivered()
	if err != nil {
		return err
	}
	if done >= epoch {
		return fmt.Errorf("%s has delivered epoch %d, and this run begins at epoch %d; choose another folder", s.dir, done, epoch)
	}
	kept := map[string]bool{}
	var newest folderShipment
	for _, w := range waiting {
		if newest, err = s.read(w); err != nil {
			return err
		}
		for _, name := range newest.Files {
			kept[part(s.path(name))], kept[packedPart(s.path(name))] = true, true
		}
	}
	for _, f := range newest.Open {
		kept[part(s.path(f.Name))] = true
	}
	s.epoch, s.first = epoch, epoch
	if err := s.sweep(kept); err != nil {
		return err
	}
	for _, f := range newest.Open {
		if err := s.goOn(f, s.leased); err != nil {
			return err
		}
	}
	return nil
}

// take makes the folder and locks it.
func (s *Folder) take() error {
	if err := s.Files.MkdirAll(s.dir); err != nil {
		return disk.Explain("make folder", s.dir, err)
	}
	if err := checkFolder(s.Files, s.dir); err != nil {
		return err
	}
	if s.leased {
		return nil
	}
	lock, err := s.Files.Create(filepath.Join(s.dir, "."+s.called+".lock"), 0)
	if err != nil {
		return disk.Explain("write into", s.dir, err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return fmt.Errorf("%s is being written by another run of sink %s; wait for it, or choose another folder", s.dir, s.called)
	}
	s.lock = lock
	return nil
}

// sweep removes what an interrupted epoch left unfinished: it is made again. What waits for its delivery is kept.
func (s *Folder) sweep(kept map[string]bool) error {
	within := filepath.Join(plain.Replace(s.dir), strings.Repeat("*/", depth(s.rolled.Folders)), plain.Replace(s.called)+"-*.part")
	found, err := s.Files.Glob(within)
	if err != nil {
		return disk.Explain("read folder", s.dir, err)
	}
	for _, path := range found {
		if !kept[path] {
			if err := disk.Remove(s.Files, path); err != nil {
				return err
			}
		}
	}
	return nil
}

// plain takes the meaning of a pattern from a text that stands within one.
var plain = strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`)

// depth is how many folders lie within one another in a text that names them.
func depth(t pattern.Text) int {
	if t.Empty() {
		return 0
	}
	return strings.Count(t.String(), "/") + 1
}

// goOn opens a file that was open at the checkpoint, as long as it was then; apart: a copy of it. One that has its name by now was closed later: a start from an
// older checkpoint leaves it.
func (s *Folder) goOn(f openFile, apart bool) error {
	path := part(s.path(f.Name))
	st, err := s.Files.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return disk.Explain("read", path, err)
	case st.Size() < f.Bytes:
		return fmt.Errorf("%s has %d bytes and the checkpoint says %d were written; put the file back, or begin anew with an empty checkpoint folder", path, st.Size(), f.Bytes)
	}
	if apart {
		return s.goOnApart(f, path)
	}
	o, err := disk.OpenForWriting(s.Files, path, 0)
	if err != nil {
		return err
	}
	if err := cutBack(o, path, f.Bytes); err != nil {
		return errors.Join(err, o.Close())
	}
	s.open[folderOf(f.Name)] = &rolling{name: f.Name, out: o, pieces: s.Format.Pack != nil, size: f.Bytes, begun: f.Begun}
	return nil
}

// goOnApart goes on with a copy of a file that was open: whoever has lost the job may be writing the file itself. Its name is of this epoch, which only this lease uses.
func (s *Folder) goOnApart(f openFile, path string) error {
	from, err := s.Files.Open(context.Background(), path)
	if err != nil {
		return disk.Explain("read", path, err)
	}
	defer from.Close()
	s.begun++
	next := &rolling{name: s.fileName(folderOf(f.Name)), pieces: s.Format.Pack != nil, size: f.Bytes, begun: f.Begun, used: s.turn}
	if next.out, err = disk.OpenForWriting(s.Files, part(s.path(next.name)), os.O_TRUNC); err != nil {
		return err
	}
	_, err = io.Copy(next.out, io.NewSectionReader(from, 0, f.Bytes))
	if err = errors.Join(err, next.out.Sync()); err != nil {
		return errors.Join(disk.Explain("copy", path, err), next.out.Close())
	}
	s.left = append(s.left, path) // the checkpoint that it goes on from names it still
	s.open[folderOf(f.Name)] = next
	s.name(folderOf(f.Name))
	return nil
}

// fileName is what a file is called that begins now.
func (s *Folder) fileName(folder string) string {
	return filepath.Join(folder, fmt.Sprintf("%s-%08d-%d%s", s.called, s.epoch, s.begun, s.Format.Endings[0]))
}

// folderOf is the folder that a file lies in, within that of the sink; empty for this one.
func folderOf(name string) string {
	if dir := filepath.Dir(name); dir != "." {
		return dir
	}
	return ""
}

// Write takes rows as the encoder gave them.
func (s *Folder) Write(data []byte, rows int) error {
	s.turn++
	if s.rolled.Folders.Empty() {
		return s.put("", data, rows)
	}
	for len(data) > 0 {
		f, rest, ok := nextFrame(data)
		if !ok {
			return errors.New("rows of a folder are cut short; this is a bug of Under Tide")
		}
		if err := s.put(string(f.folder), f.rows, f.n); err != nil {
			return err
		}
		data = rest
	}
	return nil
}

// put writes rows into a folder's file.
func (s *Folder) put(folder string, data []byte, rows int) error {
	f := s.open[folder]
	if f != nil && (f.size > 0 && f.size+int64(len(data)) > s.rolled.Size || s.due(f)) {
		if err := s.close(folder); err != nil {
			return err
		}
		f = nil
	}
	if f == nil {
		var err error
		if f, err = s.begin(folder); err != nil {
			return err
		}
	}
	f.used = s.turn
	if f.packer != nil {
		err := f.packer.Write(data, rows)
		f.size = f.packer.Size()
		return err
	}
	if f.pieces {
		s.piece = appendPiece(s.piece[:0], data, rows)
		data = s.piece
	}
	n, err := f.out.Put(data)
	f.size += int64(n)
	return err
}

// due says whether a file has been open long enough.
func (s *Folder) due(f *rolling) bool {
	return s.rolled.Every > 0 && s.now().Sub(f.begun) >= s.rolled.Every
}

// begin begins a file.
func (s *Folder) begin(folder string) (*rolling, error) {
	most := mostOpen
	if s.Format.Pack != nil && s.rolled.Every == 0 {
		most = mostPacked
	}
	if len(s.open) >= most {
		if err := s.close(s.longestAgo()); err != nil {
			return nil, err
		}
	}
	if folder != "" {
		if err := s.Files.MkdirAll(s.path(folder)); err != nil {
			return nil, disk.Explain("make folder", s.path(folder), err)
		}
	}
	s.begun++
	f := &rolling{name: s.fileName(folder), begun: s.now()}
	o, err := disk.OpenForWriting(s.Files, part(s.path(f.name)), os.O_TRUNC)
	if err != nil {
		return nil, err
	}
	f.out, s.open[folder] = o, f
	s.name(folder)
	switch {
	case s.Format.Pack != nil && s.rolled.Every > 0:
		f.pieces = true
	case s.Format.Pack != nil:
		f.packer = s.Format.Pack(putter{o}, s.Schema)
	default:
		_, err = o.Put(s.head()) // it counts for nothing: it alone fills no file
	}
	return f, err
}

// longestAgo is the folder whose file was written longest ago.
func (s *Folder) longestAgo() (folder string) {
	least := int64(-1)
	for name, f := range s.open {
		if least < 0 || f.used < least || f.used == least && name < folder {
			folder, least = name, f.used
		}
	}
	return folder
}

// close ends a folder's file; it appears with the checkpoint of this epoch.
func (s *Folder) close(folder string) error {
	f := s.open[folder]
	delete(s.open, folder)
	s.closed = append(s.closed, f.name)
	var err error
	if f.packer != nil {
		err = f.packer.Close()
		f.size = f.packer.Size()
	}
	s.bytes += f.size
	if err = errors.Join(err, f.out.Sync(), f.out.Close()); err != nil || !f.pieces {
		return err
	}
	s.name(folder) // of what is packed
	return packAside(s.Output, part(s.path(f.name)), packedPart(s.path(f.name)))
}

// Prepare closes the files that are due, and syncs the others.
func (s *Folder) Prepare(epoch int64) (out engine.Shipment, err error) {
	sh := folderShipment{}
	for _, folder := range sortedKeys(s.open) {
		f := s.open[folder]
		if s.rolled.Every == 0 || s.resting || s.due(f) {
			if err := s.close(folder); err != nil {
				return out, err
			}
			continue
		}
		if f.used > s.synced {
			if err := f.out.Sync(); err != nil {
				return out, err
			}
		}
		st, err := f.out.File.Stat()
		if err != nil {
			return out, disk.Explain("read", f.name, err)
		}
		sh.Open = append(sh.Open, openFile{f.name, st.Size(), f.begun})
	}
	for _, dir := range sortedKeys(s.named) { // the names last before the checkpoint counts on them
		if err := disk.SyncFolder(s.Files, dir); err != nil {
			return out, err
		}
	}
	clear(s.named)
	sh.Files, out.Bytes = s.closed, s.bytes
	if s.along != "" {
		for _, name := range s.closed {
			aside := part(name)
			if s.packedAlone(name) {
				aside = packedPart(name)
			}
			out.Files = append(out.Files, filepath.Join(s.along, aside))
		}
	}
	out.Data, err = json.Marshal(sh)
	s.closed, s.begun, s.bytes, s.epoch, s.synced = nil, 0, 0, epoch+1, s.turn
	return out, err
}

// Rest implements [engine.Rester].
func (s *Folder) Rest() { s.resting = true }

// name notes that a folder has a new name in it, and so have those around it if they are new.
func (s *Folder) name(folder string) {
	for ; ; folder = folderOf(folder) {
		s.named[s.path(folder)] = true
		if folder == "" {
			return
		}
	}
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// Deliver renames an epoch's files and then replaces the marker. An epoch without any leaves the marker as it is.
func (s *Folder) Deliver(_ context.Context, sh engine.Shipment) error {
	if sh.Epoch >= s.first {
		for ; len(s.left) > 0; s.left = s.left[1:] {
			if err := disk.Remove(s.Files, s.left[0]); err != nil {
				return err
			}
		}
	}
	files, err := s.read(sh)
	if err != nil || len(files.Files) == 0 {
		return err
	}
	if err := s.appear(files.Files); err != nil {
		return err
	}
	if err := disk.ReplaceFile(s.Files, s.marker(), fmt.Appendf(nil, "{\"epoch\":%d}\n", sh.Epoch)); err != nil {
		return err
	}
	return disk.SyncFolder(s.Files, s.dir)
}

// appear gives files their names. Those that have them by now were renamed before the run was interrupted.
func (s *Folder) appear(names []string) error {
	dirs := map[string]bool{}
	for _, name := range names {
		path := s.path(name)
		dirs[filepath.Dir(path)] = true
		whole := part(path)
		if _, err := s.Files.Stat(packedPart(path)); err == nil {
			whole = packedPart(path)
			if err := disk.Remove(s.Files, part(path)); err != nil { // first: alone it would be taken for the whole file
				return err
			}
		}
		err := disk.Rename(s.Files, whole, path)
		if errors.Is(err, fs.ErrNotExist) {
			if _, e := s.Files.Stat(path); e == nil {
				err = nil
			}
		}
		if err != nil {
			return disk.Explain("rename to", path, err)
		}
	}
	for _, dir := range sortedKeys(dirs) { // before the marker says that they are there
		if err := disk.SyncFolder(s.Files, dir); err != nil {
			return err
		}
	}
	return nil
}

// packedAlone says whether a file is packed, and the rows that lay aside for it are removed.
func (s *Folder) packedAlone(name string) bool {
	_, aside := s.Files.Stat(part(s.path(name)))
	_, packed := s.Files.Stat(packedPart(s.path(name)))
	return errors.Is(aside, fs.ErrNotExist) && packed == nil
}

// Finish gives the files that are still open their names: their rows are of checkpoints that are complete.
func (s *Folder) Finish() error {
	err := s.closeAll()
	if err == nil {
		err = s.appear(s.closed)
	}
	return errors.Join(err, s.Abort())
}

// Abort leaves open files as they are.
func (s *Folder) Abort() (err error) {
	for _, f := range s.open {
		err = errors.Join(err, f.out.Flush(), f.out.Close())
	}
	clear(s.open)
	if s.lock != nil {
		err = errors.Join(err, s.lock.Close())
		s.lock = nil
	}
	return err
}

// Recover delivers what is left of a run whose last checkpoint said that it was done.
func (s *Folder) Recover(ctx context.Context, waiting []engine.Shipment) error {
	done, err := s.delivered()
	if err != nil {
		return err
	}
	if err := s.recover(ctx, waiting, done, s.Deliver); err != nil {
		return err
	}
	return s.Finish()
}

// recover delivers the shipments that are not, and opens the files that were open at the last checkpoint, for Finish.
func (s *Folder) recover(ctx context.Context, waiting []engine.Shipment, done int64, deliver func(context.Context, engine.Shipment) error) (err error) {
	var newest folderShipment
	for _, w := range waiting {
		if newest, err = s.read(w); err != nil {
			return err
		}
		if w.Epoch > done {
			if err := deliver(ctx, w); err != nil {
				return err
			}
		}
	}
	for _, f := range newest.Open {
		if s.packedAlone(f.Name) { // Finish was interrupted before it had its name
			s.closed = append(s.closed, f.Name)
			continue
		}
		if err := s.goOn(f, false); err != nil { // the run came to its end: nobody writes it any more
			return errors.Join(err, s.Abort())
		}
	}
	return nil
}

// closeAll closes the files that are open.
func (s *Folder) closeAll() error {
	for _, folder := range sortedKeys(s.open) {
		if err := s.close(folder); err != nil {
			return err
		}
	}
	return nil
}

// NewEncoder makes an encoder of rows, which also says into which folder each goes.
func (s *Folder) NewEncoder(sc row.Schema) engine.Encoder {
	if s.rolled.Folders.Empty() {
		return s.Format.Encode(sc)
	}
	return newSplitting(s.rolled.Folders, s.Format.Encode(sc), sc)
}
