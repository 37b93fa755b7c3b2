package file

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"undertide/connect"
	"undertide/connect/file/objects"
	"undertide/core/engine"
	"undertide/disk"
)

// Bucket is a sink of rolled objects: a [Folder] of this machine in which an epoch's files wait, and a store to which they go once its
// checkpoint is complete, the marker NAME.delivered last. Objects have the names that the folder's files have, so that sending one again changes
// nothing.
//
// The marker also names the run. A start replaces it; every later one of its own is conditional on that. A run that lives on finds another's marker and
// ends: it replaces no object that is there, before it has seen that the marker is its own.
type Bucket struct {
	*Folder
	store          *objects.Store
	bucket, prefix string // the prefix ends in /, or is empty
	run            string
	temporary      bool // the folder goes with the run

	ctx      context.Context // ends with the sink or when it is interrupted
	cancel   context.CancelFunc
	tag      string // of the marker that this run wrote last
	marked   mark   // what it holds
	prepared int64  // the newest epoch that was prepared: files that are still open hold no later ones
}

// mark is what the marker holds: the newest epoch that was delivered, its files, and the run that has the place.
type mark struct {
	Epoch int64    `json:"epoch"`
	Run   string   `json:"run"`
	Files []string `json:"files,omitempty"`
}

func (s *sink) openBucket(to string, o connect.Opening, out Output) (engine.Sink, error) {
	store, err := reach(s.Connection)
	if err != nil {
		return nil, err
	}
	bucket, prefix, err := objects.Split(to)
	if err != nil {
		return nil, err
	}
	b := &Bucket{store: store, bucket: bucket, prefix: prefix, run: rand.Text()}
	b.ctx, b.cancel = context.WithCancel(context.Background())
	out.Files = nil // of a folder of ours
	dir := filepath.Join(o.Aside, o.Name+".objects")
	if o.Aside == "" {
		if dir, err = os.MkdirTemp("", "undertide-objects-"); err != nil {
			return nil, err
		}
		b.temporary = true
	}
	b.Folder = NewFolder(dir, o.Called(), s.rolled(), out)
	if o.Lease > 0 { // the checkpoint takes the files along
		if b.Folder.along = o.Name + ".objects"; b.rolled.Every > 0 {
			return nil, fmt.Errorf("%w: rows of a file that stays open over checkpoints are on one node, and the job may go on on another; leave out roll: {every: …}, so that each checkpoint closes its files", connect.ErrUsage)
		}
	}
	return b, nil
}

func (b *Bucket) String() string { return objects.Scheme + b.bucket + "/" + b.prefix }

func (b *Bucket) markerKey() string { return b.prefix + b.called + ".delivered" }

// mostMarker bounds a marker: it names the files of an epoch.
const mostMarker = 16 << 20

// newest reads the marker; none where there is none.
func (b *Bucket) newest(ctx context.Context) (m mark, tag string, err error) {
	text, o, err := b.store.Get(ctx, b.bucket, b.markerKey(), mostMarker)
	if errors.Is(err, fs.ErrNotExist) {
		return m, "", nil
	}
	if err != nil {
		return m, "", err
	}
	if err := json.Unmarshal(text, &m); err != nil {
		return m, "", fmt.Errorf("%s%s cannot be read (%w); move the objects elsewhere and start again", b, b.called+".delivered", err)
	}
	return m, o.Tag, nil
}

// Known implements [engine.Knower].
func (b *Bucket) Known(ctx context.Context) (int64, error) {
	m, _, err := b.newest(ctx)
	return m.Epoch, err
}

// Delivered takes the place over, and gives the epoch that was delivered last.
func (b *Bucket) Delivered(ctx context.Context) (int64, error) {
	ctx, stop := context.WithTimeout(ctx, takeIn)
	defer stop()
	m, tag, err := b.newest(ctx)
	if err != nil {
		return 0, err
	}
	may := objects.Nothing
	if tag != "" {
		may = objects.Tagged(tag)
	}
	if err := b.mark(ctx, m.Epoch, m.Files, may); err != nil {
		return 0, err
	}
	return m.Epoch, b.tidy(ctx)
}

// takeIn bounds how long a start waits for the store.
const takeIn = 30 * time.Second

// tidy removes objects of the newest epoch which are not of its files: an interrupted run, or one that has lost the place, may have sent them. It is
// done by whoever has just written the marker, so that nobody removes what another run delivers. In folders by fields they would have to be looked
// for everywhere, and stay.
func (b *Bucket) tidy(ctx context.Context) error {
	if !b.rolled.Folders.Empty() || b.marked.Epoch == 0 {
		return nil
	}
	all, err := b.store.ListAll(ctx, b.bucket, fmt.Sprintf("%s%s-%08d-", b.prefix, b.called, b.marked.Epoch))
	if err != nil {
		return err
	}
	for _, o := range all {
		if slices.ContainsFunc(b.marked.Files, func(name string) bool { return b.key(name) == o.Key }) {
			continue
		}
		if err := b.store.Remove(ctx, b.bucket, o.Key); err != nil {
			return err
		}
	}
	return nil
}

// mark writes the marker: that files of an epoch are delivered.
func (b *Bucket) mark(ctx context.Context, epoch int64, files []string, may objects.Replace) error {
	m := mark{Epoch: epoch, Run: b.run}
	if b.rolled.Folders.Empty() { // tidy asks for them
		m.Files = files
	}
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	tag, err := b.store.Put(ctx, b.bucket, b.markerKey(), strings.NewReader(string(text)+"\n"), int64(len(text))+1, may)
	if errors.Is(err, objects.ErrTaken) { // perhaps by us, and the answer was lost
		var is mark
		if is, tag, err = b.newest(ctx); err == nil && (is.Epoch != epoch || is.Run != b.run) {
			err = fmt.Errorf("%s: %w", b, engine.ErrFenced)
		}
	}
	if err == nil {
		b.tag, b.marked = tag, m
	}
	return err
}

// mine makes sure that the marker is this run's.
func (b *Bucket) mine(ctx context.Context) error {
	if m, _, err := b.newest(ctx); err != nil || m.Run == b.run {
		return err
	}
	return fmt.Errorf("%s: %w", b, engine.ErrFenced)
}

// Prepare implements [engine.Sink].
func (b *Bucket) Prepare(epoch int64) (engine.Shipment, error) {
	b.prepared = epoch
	return b.Folder.Prepare(epoch)
}

// Deliver sends an epoch's files and then the marker.
func (b *Bucket) Deliver(ctx context.Context, sh engine.Shipment) error {
	files, err := b.read(sh)
	if err != nil || len(files.Files) == 0 {
		return err
	}
	ctx, stop := both(ctx, b.ctx)
	defer stop()
	if err := b.send(ctx, files.Files); err != nil {
		return err
	}
	if err := b.mark(ctx, sh.Epoch, files.Files, objects.Tagged(b.tag)); err != nil {
		return err
	}
	return errors.Join(b.tidy(ctx), b.forget(files.Files))
}

// both gives a context that ends with either.
func both(a, b context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(a)
	stop := context.AfterFunc(b, cancel)
	return ctx, func() { stop(); cancel() }
}

// send sends files that are closed. One that is not here was sent before the run was interrupted.
func (b *Bucket) send(ctx context.Context, names []string) error {
	for _, name := range names {
		local, err := b.closedFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			if _, err := b.store.Find(ctx, b.bucket, b.key(name)); err != nil {
				return fmt.Errorf("rows that wait for %s are missing in %s, and it has them not: %w", b, b.dir, err)
			}
			continue
		}
		if err != nil {
			return err
		}
		err = b.sendOne(ctx, local, b.key(name))
		if err = errors.Join(err, local.Close()); err != nil {
			return err
		}
	}
	return nil
}

func (b *Bucket) key(name string) string { return path.Join(b.prefix, filepath.ToSlash(name)) }

// closedFile opens a file that is closed, packed or as it is.
func (b *Bucket) closedFile(name string) (*os.File, error) {
	f, err := os.Open(packedPart(b.path(name)))
	if errors.Is(err, fs.ErrNotExist) {
		f, err = os.Open(part(b.path(name)))
	}
	return f, err
}

// sendOne makes an object of a file. One of its name may be of this epoch, sent before an interruption, or of a run that has lost the place.
func (b *Bucket) sendOne(ctx context.Context, f *os.File, key string) error {
	st, err := f.Stat()
	if err != nil {
		return err
	}
	if err := disk.Try("send", key); err != nil {
		return err
	}
	_, err = b.store.Put(ctx, b.bucket, key, f, st.Size(), objects.Nothing)
	if !errors.Is(err, objects.ErrTaken) {
		return err
	}
	if err := b.mine(ctx); err != nil {
		return err
	}
	_, err = b.store.Put(ctx, b.bucket, key, f, st.Size(), objects.Replace{})
	return err
}

// forget removes files that the store has.
func (b *Bucket) forget(names []string) error {
	var err error
	for _, name := range names {
		for _, p := range []string{part(b.path(name)), packedPart(b.path(name))} {
			if e := os.Remove(p); e != nil && !errors.Is(e, fs.ErrNotExist) {
				err = cmp.Or(err, disk.Explain("remove", p, e))
			}
		}
	}
	return err
}

// Finish sends the files that are still open: their rows are of checkpoints that are complete.
func (b *Bucket) Finish() error {
	if err := b.closeAll(); err != nil || len(b.closed) == 0 {
		return errors.Join(err, b.Abort())
	}
	err := b.send(b.ctx, b.closed)
	if err == nil {
		epoch, files := max(b.marked.Epoch, b.prepared), b.closed
		if epoch == b.marked.Epoch {
			files = append(slices.Clone(b.marked.Files), files...)
		}
		err = b.mark(b.ctx, epoch, files, objects.Tagged(b.tag))
	}
	if err == nil {
		err = b.forget(b.closed)
	}
	return errors.Join(err, b.Abort())
}

// Abort leaves open files as they are, or removes them with a folder that goes with the run.
func (b *Bucket) Abort() error {
	b.cancel()
	err := b.Folder.Abort()
	if b.temporary {
		err = errors.Join(err, os.RemoveAll(b.dir))
	}
	return err
}

// Recover sends what is left of a run whose last checkpoint said that it was done.
func (b *Bucket) Recover(ctx context.Context, waiting []engine.Shipment) error {
	done, err := b.Delivered(ctx)
	if err != nil {
		return err
	}
	if n := len(waiting); n > 0 {
		b.prepared = waiting[n-1].Epoch
	}
	if err := b.recover(ctx, waiting, done, b.Deliver); err != nil {
		return err
	}
	return b.Finish()
}

// Interrupt frees whoever waits for the store.
func (b *Bucket) Interrupt() { b.cancel() }

// Trouble implements [engine.Troubled].
func (b *Bucket) Trouble() string {
	return b.store.Health.Trouble(b.store.String() + " has not taken objects")
}

// Retries implements [engine.Retrier].
func (b *Bucket) Retries() int64 { return b.store.Health.Retries() }
