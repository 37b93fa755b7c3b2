package cli

import (
	"cmp"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"

	"undertide/api"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/figures"
	"undertide/job"
	"undertide/run"
)

// progress shows how a run goes on: a bar on a terminal, a line every 10 s elsewhere; and what holds it, as the service would say.
type progress struct {
	w     io.Writer
	job   *job.Job
	watch *engine.Watch
	begun time.Time
	end   chan struct{}
	done  sync.WaitGroup

	mu    sync.Mutex // guards what ready hands over
	graph *engine.Graph
	refs  *run.References

	series figures.Series // of the goroutine that shows it
}

// What a progress takes and shows, and how often.
const (
	drawEvery = 100 * time.Millisecond // the bar
	lookEvery = time.Second            // for what holds the run
	lineEvery = 10 * time.Second
)

// newProgress shows the run that is described in opt from when it is ready.
func newProgress(w io.Writer, j *job.Job, opt *run.Options) *progress {
	p := &progress{w: w, job: j, watch: opt.Watch, begun: time.Now(), end: make(chan struct{})}
	opt.Ready = func(g *engine.Graph, refs *run.References) {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.graph, p.refs = g, refs
	}
	screen := terminal(w)
	p.done.Go(func() {
		if screen {
			p.bar()
		} else {
			p.lines()
		}
	})
	return p
}

// cause is what holds the run or loses its rows; without a text for nothing. Who is merely at work is not a cause here: a run over files is meant to be. It is
// to be called every lookEvery.
func (p *progress) cause(f engine.Figures) api.Cause {
	p.mu.Lock()
	g, refs := p.graph, p.refs
	p.mu.Unlock()
	if g == nil || len(f.Sources) == 0 {
		return api.Cause{} // it has not begun
	}
	p.series.Add(time.Now(), run.Report(p.job, g, refs, f, "running"))
	for _, c := range p.series.Live(figures.Asked{Job: p.job, Status: "running", Since: p.begun}, p.series.Rates()).Causes {
		if c.Grave && c.Kind != figures.Busy {
			return c
		}
	}
	return api.Cause{}
}

// stop ends it and clears the bar; nil does nothing.
func (p *progress) stop() {
	if p != nil {
		close(p.end)
		p.done.Wait()
	}
}

func totals(f engine.Figures) (events, bytes, size int64, mark row.Time) {
	mark = row.MaxTime
	known := true
	for _, s := range f.Sources {
		events += s.Read
	}
	for _, p := range f.Partitions {
		bytes += p.Bytes
		size += p.Size
		known = known && p.Size > 0
	}
	for _, m := range f.Watermarks {
		mark = min(mark, m)
	}
	if !known {
		size = 0
	}
	return events, bytes, size, mark
}

func (p *progress) bar() {
	tick := time.NewTicker(drawEvery)
	defer tick.Stop()
	var bar *progressbar.ProgressBar
	said, looked := api.Cause{}, time.Now()
	for {
		select {
		case <-p.end:
			if bar != nil {
				_ = bar.Clear() // only a decoration
			}
			return
		case <-tick.C:
		}
		f := p.watch.Figures()
		if time.Since(looked) >= lookEvery {
			looked = time.Now()
			if now := p.cause(f); now.Kind != said.Kind || now.At != said.At { // once, though its numbers change
				if said = now; bar != nil {
					_ = bar.Clear() // only a decoration
				}
				fmt.Fprintln(p.w, cmp.Or(now.Text, "nothing holds it any more"))
			}
		}
		events, bytes, size, mark := totals(f)
		if events == 0 {
			continue
		}
		if bar == nil {
			total := size
			if total == 0 {
				total = -1
			}
			bar = progressbar.NewOptions64(total, progressbar.OptionSetWriter(p.w), progressbar.OptionShowBytes(true), progressbar.OptionSetWidth(24),
				progressbar.OptionClearOnFinish(), progressbar.OptionSetElapsedTime(true))
		}
		bar.Describe(fmt.Sprintf("%s events, watermark %s", group(events), mark))
		_ = bar.Set64(bytes) // only a decoration
	}
}

func (p *progress) lines() {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for n := 1; ; n++ {
		select {
		case <-p.end:
			return
		case <-tick.C:
		}
		f := p.watch.Figures()
		cause := p.cause(f).Text
		if n%int(lineEvery/lookEvery) != 0 {
			continue
		}
		if cause != "" {
			cause = "; " + cause
		}
		events, bytes, size, mark := totals(f)
		share := ""
		if size > 0 {
			share = fmt.Sprintf(", %d %% of %d MiB", 100*bytes/size, size>>20)
		}
		fmt.Fprintf(p.w, "%s events%s, watermark %s%s\n", group(events), share, mark, cause)
	}
}
