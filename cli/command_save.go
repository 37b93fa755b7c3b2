package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"strconv"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
	"undertide/job"
)

func errLevel(level string) error {
	return fmt.Errorf("level %s: give debug, info, warn or error", level)
}

func newSave(s *streams) *cobra.Command {
	var r reach
	var from int
	c := r.command(&cobra.Command{
		Use:   "save DOCUMENT",
		Short: "Store a document as its job's next version",
		Long: `Store a document as its job's next version. The service checks it first; a document with faults is
not stored, and one that equals the newest version is not stored again. With --made-from nothing is stored where
somebody has saved another version meanwhile.`,
		Example: `  undertide save harbour/jobs/mean-level.yaml
  undertide save harbour/jobs/mean-level.yaml --made-from 3`,
		ValidArgsFunction: documents,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		st, err := os.Stat(args[0])
		if err != nil {
			return fmt.Errorf("%w: %s does not exist; name a job document", job.ErrNoDocument, args[0])
		}
		if st.IsDir() || st.Size() > job.MaxDocument {
			return fmt.Errorf("%w: %s is not a document; name a YAML file of at most 1 MiB", job.ErrNoDocument, args[0])
		}
		text, err := os.ReadFile(args[0])
		if err != nil {
			return err
		}
		saved, err := cl.SaveFrom(c.Context(), text, from)
		if err != nil {
			return inFile(err, args[0])
		}
		for _, w := range saved.Warnings {
			s.say("%s (warning)", inThis(w, args[0]))
		}
		for _, name := range saved.Filled {
			s.say("source %s: what its description says was written into the version", name)
		}
		if saved.Stored {
			s.say("saved as version %d of %s", saved.Number, saved.Job)
		} else {
			s.say("nothing changed: it equals version %d of %s", saved.Number, saved.Job)
		}
		return nil
	})
	c.Flags().IntVar(&from, "made-from", 0, "the `NUMBER` of the version that the document was made from (default: any)")
	return c
}

// inFile names the caller's own file in the faults of a document that was sent.
func inFile(err error, path string) error {
	var p *api.Problem
	if !errors.As(err, &p) || p.Code != api.WrongDocument.Code {
		return err
	}
	own := *p
	own.Detail, own.Faults = inThis(p.Detail, path), nil
	for _, f := range p.Faults {
		own.Faults = append(own.Faults, inThis(f, path))
	}
	return &own
}

// inThis puts a file's path where a text names a place in a document that was sent.
func inThis(text, path string) string {
	return placeOf.ReplaceAllLiteralString(text, path+":")
}

var placeOf = regexp.MustCompile(`\bdocument\.yaml:`)

// startFlags are shared by start and restart.
type startFlags struct {
	resume  string
	fresh   bool
	version int
	lanes   int
	set     []string
	leave   []string
	skip    []string
	dryRun  bool
	format  string
}

func (f *startFlags) flags(c *cobra.Command) {
	c.Flags().StringVar(&f.resume, "resume", "last", "where to go on: `CHECKPOINT` last (the newest), pin:NAME or checkpoint:N; rows that were delivered after an older one are made again")
	c.Flags().BoolVar(&f.fresh, "fresh", false, "begin anew, without a checkpoint; rows that were delivered are made again")
	c.Flags().IntVar(&f.version, "version", 0, "the `NUMBER` of the version (default: the newest)")
	c.Flags().IntVar(&f.lanes, "lanes", 0, "run `N` lanes (default: the document's, or one a CPU)")
	c.Flags().StringArrayVar(&f.set, "set", nil, "set `NAME=VALUE` of the document's values")
	c.Flags().StringArrayVar(&f.leave, "leave-behind", nil, "leave behind what was kept for `STEP`, where the version does not fit it")
	c.Flags().StringArrayVar(&f.skip, "skip", nil, "set aside the event at `[SOURCE=]PARTITION:OFFSET`: it becomes a reject, and is counted as skipped")
	c.Flags().BoolVar(&f.dryRun, "dry-run", false, "only tell what it would keep of what the last run left: positions of sources, state of steps, deliveries of sinks")
	formatFlag(c, &f.format)
	exclusive(c, "resume", "fresh")
	exclusive(c, "dry-run", "fresh")
}

// resumes are the checkpoints that a start goes on from.
var resumes = regexp.MustCompile(`^(last|pin:.+|checkpoint:[1-9][0-9]*)$`)

func (f *startFlags) ask(c *cobra.Command) (api.Start, error) {
	out := api.Start{Resume: f.resume, Version: f.version, Lanes: f.lanes, LeaveBehind: f.leave, Skip: f.skip}
	if f.fresh {
		out.Resume = "fresh"
	}
	if out.Resume != "fresh" && !resumes.MatchString(out.Resume) {
		return out, usageError{fmt.Errorf("--resume %s: give last, pin:NAME or checkpoint:N, or --fresh", f.resume)}
	}
	if c.Flags().Changed("lanes") && (f.lanes < 1 || f.lanes > 240) {
		return out, usageError{fmt.Errorf("--lanes %d: give a number from 1 to 240", f.lanes)}
	}
	if c.Flags().Changed("version") && f.version < 1 {
		return out, usageError{errors.New("--version: versions count from 1")}
	}
	var err error
	out.Set, err = assignments("--set", f.set, "NAME=VALUE")
	return out, err
}

func newStart(s *streams) *cobra.Command {
	return beginning(s, &cobra.Command{
		Use:     "start JOB",
		Short:   "Start a run, from the newest checkpoint where there is one",
		Example: "  undertide start mean-level\n  undertide start mean-level --fresh --lanes 2\n  undertide start mean-level --resume pin:before-the-storm\n  undertide start crane-load --begin 2026-03-01T00:00:00Z --until 2026-03-02T00:00:00Z",
	}, (*client.Client).Start, true)
}

// spanFlags adds the flags of a start over events of the past.
func spanFlags(c *cobra.Command, ask *api.Start) {
	c.Flags().StringVar(&ask.Begin, "begin", "", "process events of the past beside the run, from `TIME` on (or earliest): as a job of its own, which ends by itself")
	c.Flags().StringVar(&ask.Until, "until", "", "process events of the past up to `TIME` (or latest, the default with --begin)")
	c.Flags().BoolVar(&ask.Append, "append", false, "with --begin or --until: rows may stand beside those that sinks hold already")
}

func newDrain(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:     "drain JOB",
		Short:   "End a run's sources where they stand, publish everything, and finish",
		Example: "  undertide drain mean-level",
		Long: `End a run's sources where they stand: the watermark goes to the end, all windows close and are published, and the run
finishes. It cannot go on afterwards; a start with --fresh begins anew.`,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		run, err := cl.Drain(c.Context(), args[0])
		if err != nil {
			return err
		}
		s.say("%s: run %d %s", run.Job, run.ID, run.Status)
		if run.Error != "" {
			return errors.New(run.Error)
		}
		return nil
	})
}

func newRestart(s *streams) *cobra.Command {
	return beginning(s, &cobra.Command{
		Use:   "restart JOB",
		Short: "Stop a run with a checkpoint and start it again from there",
		Example: `  undertide restart mean-level
  undertide restart mean-level --lanes 2`,
	}, (*client.Client).Restart, false)
}

// beginning makes a command that begins a run.
func beginning(s *streams, c *cobra.Command, begin func(*client.Client, context.Context, string, api.Start) (api.Started, error), spans bool) *cobra.Command {
	var r reach
	var f startFlags
	var span api.Start
	if spans {
		spanFlags(c, &span)
	}
	r.command(c, func(c *cobra.Command, cl *client.Client, args []string) error {
		ask, err := f.ask(c)
		if err != nil {
			return err
		}
		ask.Begin, ask.Until, ask.Append = span.Begin, span.Until, span.Append
		switch over := ask.Begin != "" || ask.Until != ""; {
		case over && ask.Resume != "last":
			return usageError{errors.New("a span has a state of its own and begins anew: leave --resume and --fresh out")}
		case over && f.dryRun:
			return usageError{errors.New("a span keeps nothing of another run: leave --dry-run out")}
		case f.dryRun:
			k, err := cl.Kept(c.Context(), args[0], ask.Version, ask.Resume)
			if err != nil {
				return err
			}
			return show(s, f.format, k, func() { keptTable(s, args[0], k) })
		case c.Flags().Changed("format"):
			return usageError{errors.New("--format belongs to --dry-run: give both, or neither")}
		case !over && ask.Resume != "fresh":
			// What the last run left matters where the version changed.
			if k, err := cl.Kept(c.Context(), args[0], ask.Version, ask.Resume); err == nil && k.From != nil && !k.Same {
				keptTable(&streams{out: s.err, err: s.err}, args[0], k)
			}
		}
		st, err := begin(cl, c.Context(), args[0], ask)
		if err != nil {
			return err
		}
		s.sayStarted(st)
		return nil
	})
	f.flags(c)
	return c
}

// sayStarted tells of a run that has begun.
func (s *streams) sayStarted(st api.Started) {
	for _, n := range st.Notes {
		s.say("%s", n)
	}
	s.say("%s: run %d of version %d, %s", st.Run.Job, st.Run.ID, st.Run.Version, st.Run.Status)
}

func newRespread(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:     "respread JOB PORTIONS",
		Short:   "Let a spread job go on with another number of portions",
		Example: "  undertide respread rates 8",
		Long: `Let a job that nodes carry out by portions (settings: {spread: 4}) go on with another number of them, more or fewer. Its portions come to rest,
what they keep is divided anew, and it goes on: for some seconds it publishes nothing, and nothing is lost or comes twice.
The number stands in its document, so this saves a version that differs in it alone.`,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		n, err := strconv.Atoi(args[1])
		if err != nil {
			return usageError{fmt.Errorf("%s is no number of portions; give one such as 8", args[1])}
		}
		st, err := cl.Respread(c.Context(), args[0], n)
		if err != nil {
			return err
		}
		s.sayStarted(st)
		return nil
	})
}

func newStop(s *streams) *cobra.Command {
	var r reach
	c := r.command(&cobra.Command{
		Use:     "stop JOB",
		Short:   "Stop a run with a checkpoint",
		Example: "  undertide stop mean-level",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		run, err := cl.Stop(c.Context(), args[0])
		if err != nil {
			return err
		}
		s.say("%s: run %d %s", run.Job, run.ID, run.Status)
		if run.Error != "" {
			return errors.New(run.Error)
		}
		return nil
	})
	return c
}

func newDelete(s *streams) *cobra.Command {
	var r reach
	c := r.command(&cobra.Command{
		Use:     "delete JOB",
		Short:   "Delete a job that is not running, with its versions, checkpoints, history and log",
		Example: "  undertide delete mean-level",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		if err := cl.Delete(c.Context(), args[0]); err != nil {
			return err
		}
		s.say("%s is deleted; what its sinks hold stays", args[0])
		return nil
	})
	return c
}

// keptTable shows what a start keeps of what the last run left.
func keptTable(s *streams, name string, k api.Kept) {
	if k.From == nil {
		s.say("job %s has no checkpoint: a start begins with nothing", name)
		return
	}
	var rows [][]string
	for _, p := range k.Parts {
		what := p.What
		if p.Must {
			what += " (say --leave-behind " + p.Name + ")"
		}
		rows = append(rows, []string{p.Kind, p.Name, what, p.Text})
	}
	s.say("version %d, from checkpoint %d", k.Version, *k.From)
	grid(s.out, []string{"", "name", "", "what happens"}, rows)
}
