package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/checkpoint"
	"undertide/core/engine"
	"undertide/job"
	"undertide/store"
)

// A checkpoint that is looked into or gone back to is named by `N` or `checkpoint:N`, its epoch, or by `pin:NAME`. A pin is a
// folder of its own with the checkpoint in it, of links (docs/checkpoints.md, "Pins").

// place is where a checkpoint is, and which run made it.
type place struct {
	dir   string
	epoch int64 // 0: the newest
	run   store.Run
}

// pinDir is where a pin of a job lies.
func (s *Service) pinDir(job, name string) string {
	return filepath.Join(s.opt.Data, "checkpoints", job, "pins", name)
}

// pinShelf is where a pin lies that all nodes reach. Its name there is never used again.
func (s *Service) pinShelf(job string, p store.Pin) *checkpoint.Shelf {
	return &checkpoint.Shelf{FS: checkpoint.Disk, Place: s.nodes.place, Within: fmt.Sprintf("%s/pins/%s-%d", checkpoint.ShelfOf(job), p.Name, p.At.UnixMilli()), Dir: s.pinDir(job, p.Name),
		Shipments: filepath.Join(s.pinDir(job, p.Name), "shipments")}
}

// bringPin makes a pin lie in this node's folder, which another node may have made.
func (s *Service) bringPin(ctx context.Context, job string, p store.Pin) error {
	if s.nodes == nil || p.Place == "" {
		return nil
	}
	s.nodes.bringing.Lock() // several may look into it
	defer s.nodes.bringing.Unlock()
	return s.pinShelf(job, p).Settle(ctx, p.Epoch, p.Place)
}

// place finds a checkpoint of a job; the newest where text is empty or `last`.
func (s *Service) place(ctx context.Context, e *entry, text string) (p place, err error) {
	rec := s.record(e)
	if text == "" || text == "last" {
		r, last := s.newestRun(e)
		switch {
		case r != nil:
			r.mu.Lock()
			p.run = r.rec
			r.mu.Unlock()
		case last != nil:
			p.run = *last
		default:
			return p, api.NotRunning.With("job "+rec.Name+" was never started, and keeps nothing", "start it: undertide start "+rec.Name)
		}
		if r == nil || !r.goingOn() {
			if err := s.bring(ctx, rec); err != nil {
				return p, wrongState(err)
			}
		}
		p.dir = s.checkpointDir(rec.Name, rec.Generation)
		return p, nil
	}
	if name, ok := strings.CutPrefix(text, "pin:"); ok {
		pin, err := s.pin(ctx, e, name)
		if err != nil {
			return p, err
		}
		if err := s.bringPin(ctx, rec.Name, pin); err != nil {
			return p, wrongState(err)
		}
		p.dir = s.pinDir(rec.Name, name)
		p.run, err = s.db.Run(ctx, pin.RunID)
		return p, err
	}
	if p.epoch, err = strconv.ParseInt(strings.TrimPrefix(text, "checkpoint:"), 10, 64); err != nil || p.epoch < 1 {
		return p, api.WrongRequest.With(cut(text)+" names no checkpoint", "give last, pin:NAME or checkpoint:N")
	}
	k, err := s.checkpointOf(ctx, rec.ID, p.epoch)
	if errors.Is(err, store.ErrNotFound) {
		return p, api.NoSuchCheckpoint.With(fmt.Sprintf("job %s has no checkpoint %d", rec.Name, p.epoch), "see undertide checkpoints "+rec.Name)
	}
	if err != nil {
		return p, err
	}
	if k.Fault != "" {
		return p, api.NoSuchCheckpoint.With(fmt.Sprintf("checkpoint %d of job %s is not complete: %s", p.epoch, rec.Name, k.Fault), "see undertide checkpoints "+rec.Name)
	}
	p.dir = s.checkpointDir(rec.Name, k.Generation)
	p.run, err = s.db.Run(ctx, k.RunID)
	return p, err
}

// checkpointOf finds a checkpoint of a job in the records. These are written behind the run, so that one which has just been made may
// still be on its way: it is waited for as long as records are, for a second at most.
func (s *Service) checkpointOf(ctx context.Context, id, epoch int64) (k store.JobCheckpoint, err error) {
	for until := time.Now().Add(time.Second); ; {
		_, _, waiting := s.db.State()
		if k, err = s.db.JobCheckpoint(ctx, id, epoch); !errors.Is(err, store.ErrNotFound) || waiting == 0 || time.Now().After(until) {
			return k, err
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// pin finds a pin of a job; the problem names the nearest where there is none.
func (s *Service) pin(ctx context.Context, e *entry, name string) (store.Pin, error) {
	p, err := s.db.Pin(ctx, e.rec.ID, name)
	if !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	all, err := s.db.Pins(ctx, e.rec.ID)
	if err != nil {
		return p, err
	}
	var names []string
	for _, o := range all {
		names = append(names, o.Name)
	}
	fix := "it has " + strings.Join(names, ", ")
	if near := job.Nearest(name, names); near != "" {
		fix = "did you mean " + near + "?"
	} else if len(names) == 0 {
		fix = "pin one: undertide pin " + e.rec.Name + " NAME"
	}
	return p, api.NoSuchPin.With("job "+e.rec.Name+" has no pin "+cut(name), fix)
}

// goBack makes the folder of a generation that begins from an older checkpoint.
func (s *Service) goBack(ctx context.Context, rec store.Job, from place) (generation int, info checkpoint.Info, err error) {
	next := filepath.Join(s.opt.Data, "checkpoints", rec.Name, "next")
	if err := os.RemoveAll(next); err != nil { // of a start that was interrupted
		return 0, info, err
	}
	if info, err = checkpoint.Copy(checkpoint.Disk, from.dir, from.epoch, next, true); err != nil {
		return 0, info, wrongState(err)
	}
	if generation, err = s.db.NextGeneration(ctx, rec.ID); err != nil {
		return 0, info, err
	}
	return generation, info, os.Rename(next, s.checkpointDir(rec.Name, generation))
}

var pinNames = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_.-]{0,62}$`)

func (s *Service) getPins(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	all, err := s.db.Pins(c.Request.Context(), e.rec.ID)
	if err != nil {
		return err
	}
	out := api.List[api.Pin]{Items: []api.Pin{}}
	for _, p := range all {
		out.Items = append(out.Items, s.viewPin(e.rec.Name, p))
	}
	return answer(c, http.StatusOK, out)
}

func (s *Service) viewPin(name string, p store.Pin) api.Pin {
	v := api.Pin{Name: p.Name, Epoch: p.Epoch, Run: p.RunID, At: p.At, WrittenAt: p.WrittenAt}
	if _, err := os.Stat(s.pinDir(name, p.Name)); s.nodes != nil && p.Place != "" && errors.Is(err, fs.ErrNotExist) {
		return v // another node made it, and nobody has asked for it here
	}
	cost, err := checkpoint.Alone(s.pinDir(name, p.Name))
	if v.Costs = cost; err != nil {
		v.Trouble = err.Error()
	}
	return v
}

// postPin keeps a checkpoint under a name: the newest, or another one.
func (s *Service) postPin(c *gin.Context) error {
	var ask api.NewPin
	if err := body(c, &ask); err != nil {
		return err
	}
	if !pinNames.MatchString(ask.Name) {
		return api.WrongRequest.With(cut(ask.Name)+" is not a name for a pin", "use letters, digits, ., _ and -, beginning with a letter or digit")
	}
	ctx := c.Request.Context()
	p, err := holding(ctx, s, c.Param("job"), func(e *entry) (api.Pin, error) { return s.pinHeld(ctx, e, ask) })
	if err != nil {
		return err
	}
	return answer(c, http.StatusCreated, p)
}

func (s *Service) pinHeld(ctx context.Context, e *entry, ask api.NewPin) (api.Pin, error) {
	name := e.rec.Name
	if old, err := s.db.Pin(ctx, e.rec.ID, ask.Name); err == nil {
		return api.Pin{}, api.PinExists.With(fmt.Sprintf("job %s has a pin %s already, of checkpoint %d", name, ask.Name, old.Epoch), "choose another name, or undertide unpin "+name+" "+ask.Name)
	} else if !errors.Is(err, store.ErrNotFound) {
		return api.Pin{}, err
	}
	text := ""
	if ask.Checkpoint > 0 {
		text = strconv.FormatInt(ask.Checkpoint, 10)
	}
	from, err := s.place(ctx, e, text)
	if err != nil {
		return api.Pin{}, err
	}
	dir := s.pinDir(name, ask.Name)
	if err := os.RemoveAll(dir); err != nil { // of one that was interrupted
		return api.Pin{}, err
	}
	info, err := checkpoint.Copy(checkpoint.Disk, from.dir, from.epoch, dir, false)
	if err != nil {
		return api.Pin{}, wrongState(err)
	}
	p := store.Pin{JobID: e.rec.ID, Name: ask.Name, Epoch: info.Epoch, RunID: from.run.ID, At: time.Now().UTC(), WrittenAt: info.Written}
	if k, err := s.db.JobCheckpoint(ctx, e.rec.ID, info.Epoch); err == nil {
		p.RunID = k.RunID // the newest may be of the run before
	}
	if s.nodes != nil {
		if p.Place, _, err = s.pinShelf(name, p).Put(ctx, p.Epoch); err != nil {
			return api.Pin{}, errors.Join(err, os.RemoveAll(dir))
		}
	}
	if err := s.db.AddPin(ctx, p); err != nil {
		return api.Pin{}, errors.Join(err, os.RemoveAll(dir))
	}
	s.db.AddEventOf(ctx, store.Event{JobID: e.rec.ID, At: p.At, Kind: "pinned", Text: fmt.Sprintf("checkpoint %d is kept as %s", p.Epoch, p.Name)})
	return s.viewPin(name, p), nil
}

func (s *Service) deletePin(c *gin.Context) error {
	ctx := c.Request.Context()
	_, err := holding(ctx, s, c.Param("job"), func(e *entry) (struct{}, error) {
		p, err := s.pin(ctx, e, c.Param("pin"))
		if err != nil {
			return struct{}{}, err
		}
		if err := s.db.DeletePin(ctx, e.rec.ID, p.Name); err != nil {
			return struct{}{}, err
		}
		s.db.AddEventOf(ctx, store.Event{JobID: e.rec.ID, At: time.Now().UTC(), Kind: "unpinned", Text: fmt.Sprintf("checkpoint %d is kept as %s no more", p.Epoch, p.Name)})
		if s.nodes != nil && p.Place != "" {
			if err := s.nodes.place.RemoveAll(ctx, s.pinShelf(e.rec.Name, p).Within); err != nil {
				s.opt.Log.Warn("what the shared store has of a pin is left there", "job", e.rec.Name, "pin", p.Name, "error", err)
			}
		}
		return struct{}{}, os.RemoveAll(s.pinDir(e.rec.Name, p.Name))
	})
	if err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	c.Writer.WriteHeaderNow()
	return nil
}

// getJobCheckpoints lists the checkpoints of all runs of a job.
func (s *Service) getJobCheckpoints(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	pins, err := s.db.Pins(c.Request.Context(), e.rec.ID)
	if err != nil {
		return err
	}
	return page(c, func(before int64, limit int) ([]store.JobCheckpoint, error) {
		return s.db.JobCheckpoints(c.Request.Context(), e.rec.ID, before, limit)
	}, func(k store.JobCheckpoint) (api.Checkpoint, int64) {
		return s.viewCheckpoint(e.rec.Name, k, pins), k.Epoch
	})
}

func (s *Service) viewCheckpoint(name string, k store.JobCheckpoint, pins []store.Pin) api.Checkpoint {
	_, gone := os.Stat(filepath.Join(s.checkpointDir(name, k.Generation), fmt.Sprintf("%08d", k.Epoch), "manifest.json"))
	v := api.Checkpoint{Epoch: k.Epoch, Run: k.RunID, Version: k.Version, WrittenAt: k.WrittenAt, Seconds: k.Seconds, StallSeconds: k.StallSeconds, Bytes: k.Bytes, NewBytes: k.NewBytes,
		RowsChanged: k.RowsChanged, RowsGone: k.RowsGone, Finished: k.Finished, Fault: k.Fault, Kept: gone == nil && k.Fault == "", Pins: []string{}, Partitions: []api.Stretch{}}
	for _, st := range k.Partitions {
		v.Partitions = append(v.Partitions, api.Stretch(st))
	}
	for _, p := range pins {
		if p.Epoch == k.Epoch {
			v.Pins = append(v.Pins, p.Name)
		}
	}
	return v
}

// unfinished notes a checkpoint that did not come to be.
func (r *runner) unfinished(u engine.Unfinished) {
	if u.Began.IsZero() && u.Epoch < r.s.nextEpoch(r.name) {
		return // noted already
	}
	now := time.Now().UTC()
	line := store.Checkpoint{RunID: r.rec.ID, Epoch: u.Epoch, Generation: r.rec.Generation, WrittenAt: now, Partitions: []store.Stretch{}, Fault: u.Why}
	r.mu.Lock()
	r.missed++
	if !u.Began.IsZero() {
		line.Seconds = now.Sub(u.Began).Seconds()
		r.unmade++
	}
	r.mu.Unlock()
	r.log.Warn("a checkpoint is not complete", "epoch", u.Epoch, "why", u.Why)
	r.s.noteEpoch(r.name, u.Epoch)
	r.s.db.AddCheckpoint(r.rec.JobID, line)
}
