package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/disk"
	"undertide/job"
	"undertide/run"
)

func newRun(s *streams) *cobra.Command {
	var in, out, set, skip []string
	var lanes int
	var checkpoints, metrics, format, server string
	var quiet bool
	c := &cobra.Command{
		Use:   "run DOCUMENT",
		Short: "Run a job in this process, without a service or database",
		Long: `Run a job in this process, without a service or database. It ends when its inputs do; Ctrl-C
stops it, with a checkpoint where --checkpoints is given.

--in and --out put files in place of the document's connectors; - is standard input or output. A
source replaced so is bounded: it reads NDJSON, or CSV where the name ends in .csv; a pattern gives
a partition for each file.`,
		Example: `  undertide run harbour/files/crane-load.yaml --out loads=- --format table
  cat events.ndjson | undertide run job.yaml --in levels=- --out means=- | head
  undertide run job.yaml --in levels='day-*.ndjson' --checkpoints state --figures figures.json`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: documents,
		RunE: func(c *cobra.Command, args []string) error {
			opt := run.Options{Lanes: lanes, Checkpoints: checkpoints, Stdin: s.in, Stdout: s.out, Watch: engine.NewWatch(), Skip: skip}
			var err error
			if opt.In, err = assignments("--in", in, "SOURCE=PATH"); err != nil {
				return err
			}
			if opt.Out, err = assignments("--out", out, "SINK=PATH"); err != nil {
				return err
			}
			values, err := assignments("--set", set, "NAME=VALUE")
			if err != nil {
				return err
			}
			if c.Flags().Changed("lanes") && (lanes < 1 || lanes > 240) {
				return usageError{fmt.Errorf("--lanes %d: give a number from 1 to 240", lanes)}
			}
			if f := connect.FormatNamed(format); format != "" && (f == nil || f.Encode == nil) {
				return usageError{fmt.Errorf("--format %s: rows on standard output are %s", format, strings.Join(writtenFormats(), ", "))}
			}
			opt.Format = format
			if c.Flags().Changed("checkpoints") && checkpoints == "" {
				return usageError{errors.New("--checkpoints needs a folder")}
			}
			if metrics != "" { // found out now, not after an hour's work
				if err := writeFigures(metrics, nil); err != nil {
					return err
				}
			}
			known, err := connectionsAt(c.Context(), server)
			if err != nil {
				return err
			}
			j, err := job.Load(args[0], job.Options{Set: values, NeedEnv: true, Connections: known})
			if err != nil {
				return err
			}
			if _, err := run.BoundMemory(j.Memory); err != nil && !quiet {
				s.say("the size of the machine's memory is not known: state is not bounded; set GOMEMLIMIT, or settings: {memory} (%v)", err)
			}
			if !quiet {
				opt.Say = func(line string) { s.say("%s", line) }
				for _, w := range j.Warnings {
					s.say("%s (warning)", w.Error())
				}
			}
			return runJob(c, s, j, opt, metrics, quiet)
		},
	}
	f := c.Flags()
	f.StringArrayVar(&in, "in", nil, "read `SOURCE=PATH` instead of the source's connector; - is standard input")
	f.StringArrayVar(&out, "out", nil, "write `SINK=PATH` instead of the sink's connector; - is standard output")
	f.StringArrayVar(&set, "set", nil, "set `NAME=VALUE` of the document's values")
	f.IntVar(&lanes, "lanes", 0, "run `N` lanes (default: the document's, or one a CPU)")
	f.StringArrayVar(&skip, "skip", nil, "set aside the event at `[SOURCE=]PARTITION:OFFSET`: it becomes a reject")
	f.StringVar(&checkpoints, "checkpoints", "", "keep checkpoints in `FOLDER`, and go on from them")
	f.StringVar(&metrics, "figures", "", "write the run's figures to `FILE` as JSON")
	f.StringVar(&format, "format", "", "how rows on standard output look: `FORM` "+strings.Join(writtenFormats(), ", ")+" (default: as the document says)")
	f.StringVar(&server, "server", "", "also take the connections of the service at `ADDRESS` that need no secret")
	f.BoolVarP(&quiet, "quiet", "q", false, "say nothing but errors")
	_ = c.MarkFlagDirname("checkpoints") // the flag stands above
	return c
}

func runJob(c *cobra.Command, s *streams, j *job.Job, opt run.Options, metrics string, quiet bool) error {
	var bar *progress
	if !quiet {
		bar = newProgress(s.err, j, &opt)
	}
	res, err := run.Run(c.Context(), j, opt)
	bar.stop()
	state := "finished"
	switch {
	case err != nil:
		state = "failed"
	case !res.Finished:
		state = "stopped"
	}
	if metrics != "" && res.Graph != nil && !res.AlreadyFinished {
		fig := run.Report(j, res.Graph, res.References, res.Figures, state)
		if werr := writeFigures(metrics, &fig); werr != nil && err == nil {
			return werr
		}
	}
	if err != nil {
		return err
	}
	if res.AlreadyFinished {
		s.say("this run has already finished; nothing was done. Use an empty checkpoint folder to run it again")
		return nil
	}
	if res.ReaderGone {
		return nil
	}
	if !quiet {
		summary(s.err, j, res, opt)
	}
	if len(res.Unbalanced) > 0 {
		return fmt.Errorf("the counts of %s do not add up; this is a bug of Under Tide, please report it with the document", strings.Join(res.Unbalanced, ", "))
	}
	return nil
}

// writeFigures writes the figures so that they are whole or not there; nil only tries the place.
func writeFigures(path string, f *run.Figures) error {
	part := path + ".part"
	w, err := os.Create(part)
	if err != nil {
		return disk.Explain("write figures to", path, err)
	}
	if f == nil {
		return errors.Join(w.Close(), os.Remove(part))
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	if err := errors.Join(e.Encode(f), w.Close()); err != nil {
		return disk.Explain("write figures to", path, err)
	}
	if err := os.Rename(part, path); err != nil {
		return disk.Explain("rename to", path, err)
	}
	return nil
}

// summary tells people how the run went: what was read, lost, rejected, and where the rows are.
func summary(w io.Writer, j *job.Job, res run.Result, opt run.Options) {
	f := res.Figures
	word := "finished"
	if !res.Finished {
		word = "stopped"
	}
	var read int64
	for _, s := range f.Sources {
		read += s.Read
	}
	speed := ""
	if sec := f.Elapsed.Seconds(); sec > 0.001 {
		speed = fmt.Sprintf(" (%s/s)", group(int64(float64(read)/sec)))
	}
	fmt.Fprintf(w, "%s: %s %s in %.2f s%s\n", word, group(read), plural(read, "event"), f.Elapsed.Seconds(), speed)
	for i, s := range f.Sources {
		rejected(w, "source "+res.Graph.Sources[i].Name, s.Rejected, f.Samples, res.Graph.Sources[i].Name)
	}
	for _, line := range run.Implausible(res.Graph, f, time.Now()) {
		fmt.Fprintf(w, "  %s\n", line)
	}
	for i, s := range f.Steps {
		name := res.Graph.Steps[i].Name
		if s.Lost > 0 {
			fmt.Fprintf(w, "  step %s: %s late %s lost, up to %s behind the watermark; a wider margin keeps them, `late of %s` shows them\n", name, group(s.Lost), plural(s.Lost, "row"), row.DurationText(s.MostLate.Round(time.Millisecond)), name)
		}
		if len(s.Sides) > 0 {
			joined(w, name, s.StepCounts)
		} else if in, misses := run.LookedUp(&res.Graph.Steps[i]); in != "" {
			lookedUp(w, name, in, misses, s.StepCounts)
		} else if s.Made > 0 && s.Dropped > 0 {
			fmt.Fprintf(w, "  step %s: having dropped %s of %s result %s\n", name, group(s.Dropped), group(s.Made), plural(s.Made, "row"))
		}
		if s.MeasureErrors > 0 {
			fmt.Fprintf(w, "  step %s: %s measures are null because they had an error\n", name, group(s.MeasureErrors))
		}
		rejected(w, "step "+name, s.Rejected, f.Samples, name)
	}
	for i, s := range f.Sinks {
		fmt.Fprintf(w, "  sink %s: %s %s to %s\n", j.Sinks[i].Name, group(s.Rows), plural(s.Rows, "row"), opt.SinkOf(&j.Sinks[i]).Place(j.Dir, res.Finished))
	}
	if !res.Finished && opt.Checkpoints != "" {
		fmt.Fprintf(w, "  the same command goes on from checkpoint %d\n", f.Checkpoints.Epoch)
	}
}

// joined tells how many rows of each side of a join met a partner.
func joined(w io.Writer, name string, s engine.StepCounts) {
	fmt.Fprintf(w, "  step %s: %s %s", name, group(s.Pairs), plural(s.Pairs, "pair"))
	for side, c := range s.Sides {
		fmt.Fprintf(w, "; of %s %s of the %s %s met none", group(c.Rows-c.Late), plural(c.Rows-c.Late, "row"), step.Sides[side], group(c.Unmatched))
		if n := c.Waiting(); n > 0 {
			fmt.Fprintf(w, " and %s %s", group(n), map[bool]string{true: "waits", false: "wait"}[n == 1])
		}
	}
	if s.Dropped > 0 {
		fmt.Fprintf(w, "; where dropped %s of %s result %s", group(s.Dropped), group(s.Made), plural(s.Made, "row"))
	}
	fmt.Fprintln(w)
}

// fewText names the first of a list, and says that there are more.
func fewText(list []string) string {
	const most = 3
	if len(list) > most {
		return strings.Join(list[:most], "; ") + " …"
	}
	return strings.Join(list, "; ")
}

// lookedUp tells how many rows were found in a reference.
func lookedUp(w io.Writer, name, in string, misses []string, s engine.StepCounts) {
	all := s.Lookup.Found + s.Lookup.Missed + s.Lookup.Null
	fmt.Fprintf(w, "  step %s: %s of %s %s found in %s", name, group(s.Lookup.Found), group(all), plural(all, "row"), in)
	if s.Lookup.Missed > 0 {
		fmt.Fprintf(w, "; %s %s no row there, such as %s", group(s.Lookup.Missed), map[bool]string{true: "has", false: "have"}[s.Lookup.Missed == 1], fewText(misses))
	}
	if s.Lookup.Null > 0 {
		fmt.Fprintf(w, "; %s with a null", group(s.Lookup.Null))
	}
	if s.Dropped > 0 {
		fmt.Fprintf(w, "; %s dropped", group(s.Dropped))
	}
	fmt.Fprintln(w)
}

func rejected(w io.Writer, at string, by map[string]int64, samples []engine.Sample, name string) {
	for _, reason := range sorted(by) {
		fmt.Fprintf(w, "  %s: %s rejected, %s", at, group(by[reason]), reason)
		for _, s := range samples {
			if s.At == name && s.Reason == reason {
				where := ""
				if s.Partition != "" {
					where = fmt.Sprintf("event %d of %s: ", s.Offset, s.Partition)
				}
				fmt.Fprintf(w, "; the first: %s%s", where, s.Message)
				break
			}
		}
		fmt.Fprintln(w)
	}
}

// writtenFormats are the formats in which rows can be written, for documents and for people.
func writtenFormats() (out []string) {
	for _, f := range connect.Formats() {
		if f.Encode != nil {
			out = append(out, f.Name)
		}
	}
	return out
}
