package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undertide/api"

	"undertide/client"
	"undertide/job"
	"undertide/run"
)

func newJobs(s *streams) *cobra.Command {
	var r reach
	var format string
	c := r.command(&cobra.Command{
		Use:   "jobs",
		Short: "List the jobs and how they are",
		Example: `  undertide jobs
  undertide jobs --format json`,
	}, func(c *cobra.Command, cl *client.Client, _ []string) error {
		jobs, err := cl.Jobs(c.Context())
		if err != nil {
			return err
		}
		return show(s, format, jobs, func() {
			if len(jobs) == 0 {
				s.say("there are no jobs yet; save one: undertide save JOB.yaml")
				return
			}
			head := []string{"job", "status", "since", ">lag", ">behind", "trend", ">in", ">out", ">watermark", ">late", ">rejected", ">checkpoint", ">restarts", "alarms"}
			onNodes := slices.ContainsFunc(jobs, func(j api.Job) bool { return j.Node != "" })
			if onNodes {
				head = append(head, "node")
			}
			var rows [][]string
			for _, j := range jobs {
				line := jobLine(j)
				if onNodes {
					line = append(line, nodeText(j))
				}
				rows = append(rows, line)
			}
			grid(s.out, head, rows)
			for _, j := range jobs {
				if j.Live != nil && slices.ContainsFunc(j.Live.Causes, func(c api.Cause) bool { return c.Grave }) || j.Live == nil && j.Run != nil && j.Run.Error != "" || j.Status == "resuming" {
					s.say("%s: %s", j.Name, harmless(j.Sentence))
				}
			}
		})
	})
	formatFlag(c, &format)
	return c
}

// nodesOf gives the nodes that carry a spread job's portions out.
func nodesOf(j api.Job) (names []string) {
	for _, p := range j.Portions {
		if p.Node != "" {
			names = append(names, p.Node)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// nodeText says in a word where a job is.
func nodeText(j api.Job) string {
	if n := len(nodesOf(j)); n > 1 {
		return fmt.Sprintf("%d nodes", n)
	} else if n == 1 {
		return nodesOf(j)[0]
	}
	return j.Node
}

// nodesLine says where a job is; empty where that is plain.
func nodesLine(j api.Job) string {
	switch all := nodesOf(j); {
	case len(j.Portions) > 0 && j.Node != "" && len(all) > 0:
		return fmt.Sprintf("%d portions on %s %s; %s starts and watches them.", len(j.Portions), plural(int64(len(all)), "node"), strings.Join(all, ", "), j.Node)
	case len(j.Portions) > 0:
		return fmt.Sprintf("It has %d portions.", len(j.Portions))
	case j.PortionOf != "" && j.Node != "":
		return fmt.Sprintf("A portion of job %s. Node %s carries it out.", j.PortionOf, j.Node)
	case j.PortionOf != "":
		return fmt.Sprintf("A portion of job %s.", j.PortionOf)
	case j.Node != "":
		return fmt.Sprintf("Node %s carries it out.", j.Node)
	}
	return ""
}

// portionLines writes how the portions of a spread job are, and what those say that have something to say.
func portionLines(s *streams, j api.Job) {
	if len(j.Portions) == 0 {
		return
	}
	var rows [][]string
	for _, p := range j.Portions {
		lag := "-"
		if p.LagEvents != nil {
			lag = group(*p.LagEvents)
		}
		rows = append(rows, []string{p.Name, cmp.Or(p.Node, "-"), p.Status, perSecond(p.InPerSecond), perSecond(p.OutPerSecond), lag, clockText(p.Watermark), group(int64(p.Keys)), bytesText(p.StateBytes)})
	}
	fmt.Fprintln(s.out)
	grid(s.out, []string{"portion", "node", "status", ">in", ">out", ">lag", "watermark", ">keys", ">state"}, rows)
	for _, p := range j.Portions {
		if p.Status == "failed" || p.Status == "resuming" {
			fmt.Fprintf(s.out, "%s: %s\n", p.Name, harmless(p.Sentence))
		}
	}
}

func jobLine(j api.Job) []string {
	since, err := time.Parse(time.RFC3339, j.Since)
	line := []string{j.Name, j.Status, "", "-", "-", "", "-", "-", "-", "-", "-", "-", "-", strings.Join(j.Alarms, ", ")}
	if err == nil {
		line[2] = span(time.Since(since))
	}
	l := j.Live
	if l == nil {
		return line
	}
	if l.LagEvents != nil {
		line[3], line[4] = group(*l.LagEvents), span(time.Duration(*l.LagSeconds*1e9))
		line[5] = l.LagTrend
		if l.CatchUp != nil {
			line[5] = "caught up in " + span(time.Duration(*l.CatchUp*1e9))
		}
	}
	line[6], line[7] = perSecond(l.InPerSecond), perSecond(l.OutPerSecond)
	if l.WatermarkAge != nil {
		line[8] = span(time.Duration(*l.WatermarkAge * 1e9))
	}
	line[9], line[10] = group(l.Late), group(l.Rejected)
	if l.CheckpointAge != nil {
		line[11] = span(time.Duration(*l.CheckpointAge*1e9)) + " ago"
	}
	line[12] = strconv.Itoa(l.Restarts)
	return line
}

func newShow(s *streams) *cobra.Command {
	var r reach
	var format string
	var document bool
	var version int
	c := r.command(&cobra.Command{
		Use:     "show JOB",
		Short:   "Show a job: how it is, its sources, steps and sinks; or its document",
		Example: "  undertide show mean-level\n  undertide show mean-level --document > mean-level.yaml",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		if document {
			v, err := cl.Version(c.Context(), args[0], version)
			if err == nil {
				_, err = io.WriteString(s.out, v.Document)
			}
			return err
		}
		if c.Flags().Changed("version") {
			return usageError{errors.New("--version is of a document; add --document")}
		}
		j, err := cl.Job(c.Context(), args[0])
		if err != nil {
			return err
		}
		plan, err := cl.Plan(c.Context(), args[0])
		if err != nil {
			return err
		}
		var fig *api.Figures
		if j.Run != nil && j.Live != nil {
			if f, err := cl.Figures(c.Context(), j.Run.ID); err == nil { // it may just have ended
				fig = &f
			}
		}
		all := struct {
			api.Job
			Plan    any          `json:"plan"`
			Figures *api.Figures `json:"figures"`
		}{j, plan, fig}
		return show(s, format, all, func() {
			fmt.Fprintf(s.out, "%s, version %d: %s\n", j.Name, j.Version, harmless(j.About))
			fmt.Fprintln(s.out, harmless(j.Sentence))
			if text := nodesLine(j); text != "" {
				fmt.Fprintln(s.out, text)
			}
			if len(j.Alarms) > 0 {
				fmt.Fprintf(s.out, "Alarms: %s; undertide alarms %s says more.\n", strings.Join(j.Alarms, ", "), j.Name)
			}
			if fig != nil {
				fmt.Fprintln(s.out, capacity(fig.Live))
				for _, a := range fig.Live.Advice {
					fmt.Fprintf(s.out, "Advice: %s.\n", harmless(a.Text))
				}
			}
			fmt.Fprintln(s.out)
			if fig != nil {
				figureLines(s, *fig, plan)
			} else {
				fmt.Fprint(s.out, plan.Text())
			}
			portionLines(s, j)
		})
	})
	formatFlag(c, &format)
	c.Flags().BoolVar(&document, "document", false, "write the text of its document, and nothing else")
	c.Flags().IntVar(&version, "version", 0, "of --document: the `NUMBER` of the version (default: the newest)")
	return c
}

// capacity says how much is read, how much arrives, and how much could be read.
func capacity(l api.Live) string {
	text := "Reads " + perSecond(l.InPerSecond)
	if l.ArrivingPerSecond != nil {
		text += ", " + perSecond(*l.ArrivingPerSecond) + " arrive"
	}
	if l.CouldPerSecond != nil {
		text += fmt.Sprintf("; could read about %s: %s busy %s", perSecond(*l.CouldPerSecond), l.Busiest.Name, percent(l.Busiest.Busy))
	}
	return text + "."
}

// figureLines writes a run's figures by source, step and sink, in the document's order.
func figureLines(s *streams, f api.Figures, plan job.Plan) {
	var rows [][]string
	names := run.Names(plan.Sources, func(s *job.SourcePlan) string { return s.Name })
	for _, r := range plan.References { // whose versions are looked up in are read beside the sources
		if _, read := f.Sources[r.Name]; read {
			names = append(names, r.Name)
		}
	}
	for _, n := range names {
		x := f.Sources[n]
		lag := "-"
		if x.LagEvents != nil {
			lag = group(*x.LagEvents)
		}
		rows = append(rows, []string{n, perSecond(f.Rates.Sources[n].Read), group(x.Read), lag, group(total(x.Rejected)), clockText(x.Watermark), strconv.Itoa(len(x.Partitions))})
	}
	grid(s.out, []string{"source", ">in", ">read", ">lag", ">rejected", "watermark", ">partitions"}, rows)
	fmt.Fprintln(s.out)
	rows = nil
	for _, n := range names {
		if p := f.Sources[n].Posts; p != nil {
			rows = append(rows, []string{n, group(p.Taken), group(p.Again), group(p.TurnedAway), group(p.Refused), bytesText(p.Bytes)})
		}
	}
	if len(rows) > 0 {
		grid(s.out, []string{"posted to", ">posts taken", ">again", ">turned away", ">events refused", ">bytes"}, rows)
		fmt.Fprintln(s.out)
	}
	rows = nil
	for _, step := range plan.Steps {
		n := step.Name
		x, rate := f.Steps[n], f.Rates.Steps[n]
		next := "-"
		if x.NextClose != nil {
			next = clockText(x.NextClose)
		}
		rows = append(rows, []string{n, perSecond(rate.In), perSecond(rate.Out), group(x.RowsIn), group(x.RowsOut), group(x.Dropped), group(x.Late.Lost), group(total(x.Rejected)), strconv.Itoa(x.OpenWindows), next, clockText(x.Watermark), group(int64(x.Keys)), bytesText(int64(x.StateBytes)), percent(rate.Busy), percent(rate.Blocked)})
	}
	grid(s.out, []string{"step", ">in", ">out", ">rows in", ">rows out", ">dropped", ">late", ">rejected", ">open", "next closes at", "watermark", ">keys", ">state", ">busy", ">blocked"}, rows)
	fmt.Fprintln(s.out)
	joinLines(s, f, plan)
	referenceLines(s, f, plan)
	rows = nil
	for _, sink := range plan.Sinks {
		n := sink.Name
		x := f.Sinks[n]
		rows = append(rows, []string{n, perSecond(f.Rates.Sinks[n].Rows), group(x.Rows), group(x.Delivered), group(x.Waiting), bytesText(x.WaitingBytes), group(x.Retries), group(x.Refused), percent(f.Rates.Sinks[n].HeldUp), percent(f.Rates.Sinks[n].Writing), delayText(x.EventDelay), delayText(x.ReadDelay)})
	}
	grid(s.out, []string{"sink", ">in", ">rows", ">delivered", ">waiting", ">undelivered", ">retries", ">refused", ">held up", ">writing", ">after the event", ">after reading"}, rows)
	for _, sink := range plan.Sinks {
		if x := f.Sinks[sink.Name]; x.Refused > 0 {
			fmt.Fprintf(s.out, "\n%s: the table did not take %s %s, kept in undertide_refused beside it; the newest in this run: %s\n", sink.Name, group(x.Refused), plural(x.Refused, "row"), cmp.Or(x.Refusal, "none"))
		}
	}
}

// delayText gives within which times half of the rows appeared, and all but one in a hundred.
func delayText(d run.DelayFigures) string {
	if d.P50 == nil {
		return "-"
	}
	return span(seconds(*d.P50)) + ", " + span(seconds(*d.P99))
}

// joinLines writes what became of the rows of both sides of joins.
func joinLines(s *streams, f api.Figures, plan job.Plan) {
	var rows [][]string
	var heavy []string
	for _, step := range plan.Steps {
		x := f.Steps[step.Name].Join
		if x == nil {
			continue
		}
		for i, side := range []run.SideFigures{x.Left, x.Right} {
			pairs := ""
			if i == 0 {
				pairs = group(x.Pairs)
			}
			rate := "-"
			if told := side.Matched + side.Unmatched; told > 0 {
				rate = percent(float64(side.Unmatched) / float64(told))
			}
			rows = append(rows, []string{step.Name, []string{"left", "right"}[i], group(side.Rows), group(side.Matched), group(side.Unmatched), rate, group(side.Late), group(side.Waiting), group(side.Kept), bytesText(side.KeptBytes), pairs})
			if len(side.Heaviest) > 0 && side.Heaviest[0].Rows > 1 { // else all keys are alike
				heavy = append(heavy, fmt.Sprintf("most rows kept of the %s of %s: %s", []string{"left", "right"}[i], step.Name, heavyText(side.Heaviest)))
			}
		}
	}
	if len(rows) > 0 {
		grid(s.out, []string{"join", "side", ">rows", ">matched", ">unmatched", ">rate", ">late", ">waiting", ">kept", ">memory", ">pairs"}, rows)
		for _, line := range heavy {
			fmt.Fprintln(s.out, line)
		}
		fmt.Fprintln(s.out)
	}
}

// heavyText names the heaviest keys of a join, such as `lift L12 (40 rows)`.
func heavyText(keys []run.HeavyRows) string {
	var out []string
	for _, k := range keys[:min(3, len(keys))] {
		out = append(out, fmt.Sprintf("%s (%s)", harmless(k.Key), group(k.Rows)+" "+plural(k.Rows, "row")))
	}
	return strings.Join(out, ", ")
}

// referenceLines writes what references hold, and what was looked up in them.
func referenceLines(s *streams, f api.Figures, plan job.Plan) {
	var rows [][]string
	var notes []string
	for _, r := range plan.References {
		x, read := f.References[r.Name]
		if !read {
			continue
		}
		rows = append(rows, []string{r.Name, group(x.Rows), bytesText(x.Bytes), x.Loaded.Format("15:04:05"), group(x.Failed), group(x.Rejected)})
		if x.Trouble != "" {
			notes = append(notes, fmt.Sprintf("%s: its rows of %s stay: %s", r.Name, x.Loaded.Format("15:04:05"), harmless(x.Trouble)))
		}
		if x.Rejected > 0 {
			notes = append(notes, fmt.Sprintf("%s: %s %s not taken, %s of them for a null in the key; the first: %s", r.Name, group(x.Rejected), plural(x.Rejected, "row"), group(x.Unkeyed), harmless(x.First)))
		}
	}
	if len(rows) > 0 {
		grid(s.out, []string{"reference", ">rows", ">memory", "loaded at", ">failed", ">rejected"}, rows)
		fmt.Fprintln(s.out)
	}
	rows = nil
	for _, step := range plan.Steps {
		if l := f.Steps[step.Name].Lookup; l != nil {
			rows = append(rows, []string{step.Name, l.Reference, group(l.Found), group(l.Missed), group(l.Null), harmless(fewText(l.Misses))})
		}
	}
	if len(rows) == 0 {
		return
	}
	grid(s.out, []string{"looks up", "in", ">found", ">missed", ">null", "some that were missed"}, rows)
	for _, n := range notes {
		fmt.Fprintf(s.out, "\n%s", n)
	}
	if len(notes) > 0 {
		fmt.Fprintln(s.out)
	}
	fmt.Fprintln(s.out)
}

// partitionLines writes where the partitions of the sources stand, and the lanes of the steps: what shows
// skew.
func partitionLines(s *streams, f api.Figures, plan job.Plan) {
	var rows [][]string
	for _, source := range plan.Sources {
		for _, p := range f.Sources[source.Name].Partitions {
			state := ""
			if p.Idle {
				state = "idle"
			}
			rows = append(rows, []string{source.Name + " " + p.Name, group(p.Events), group(p.Position), group(p.End), clockText(p.Watermark), state})
		}
	}
	if len(rows) > 12 {
		rows = append(rows[:12], []string{fmt.Sprintf("and %d more", len(rows)-12), "", "", "", "", ""})
	}
	grid(s.out, []string{"partition", ">events", ">position", ">end", "watermark", ""}, rows)
	rows = nil
	for _, step := range plan.Steps {
		for i, l := range f.Steps[step.Name].Lanes {
			var r api.LaneRate
			if lanes := f.Rates.Steps[step.Name].Lanes; i < len(lanes) {
				r = lanes[i]
			}
			rows = append(rows, []string{fmt.Sprintf("%s %d", step.Name, i), perSecond(r.In), perSecond(r.Out), group(l.RowsIn), group(l.RowsOut), group(l.Keys), percent(r.Busy)})
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(s.out)
		grid(s.out, []string{"lane", ">in", ">out", ">rows in", ">rows out", ">keys", ">busy"}, rows)
	}
}

func percent(share float64) string { return fmt.Sprintf("%.0f %%", 100*share) }

func total(m map[string]int64) (n int64) {
	for _, v := range m {
		n += v
	}
	return n
}

// clockText writes a watermark without its fraction.
func clockText(w *string) string {
	if w == nil {
		return "-"
	}
	t, err := time.Parse(time.RFC3339Nano, *w)
	if err != nil {
		return *w
	}
	return strings.Replace(t.UTC().Format("2006-01-02 15:04:05"), time.Now().UTC().Format("2006-01-02 "), "", 1) + " UTC"
}
