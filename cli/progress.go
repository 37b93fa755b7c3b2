package cli

import (
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"undertide/core/engine"
	"undertide/core/row"
)

// progress shows how a run goes on: a bar on a terminal, a line every 10 s elsewhere.
type progress struct {
	end  chan struct{}
	done sync.WaitGroup
}

func newProgress(w io.Writer, watch *engine.Watch) *progress {
	p := &progress{end: make(chan struct{})}
	f, ok := w.(*os.File)
	terminal := ok && term.IsTerminal(int(f.Fd()))
	p.done.Go(func() {
		if terminal {
			p.bar(w, watch)
		} else {
			p.lines(w, watch)
		}
	})
	return p
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

func (p *progress) bar(w io.Writer, watch *engine.Watch) {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	var bar *progressbar.ProgressBar
	for {
		select {
		case <-p.end:
			if bar != nil {
				_ = bar.Clear() // only a decoration
			}
			return
		case <-tick.C:
		}
		f := watch.Figures()
		events, bytes, size, mark := totals(f)
		if events == 0 {
			continue
		}
		if bar == nil {
			total := size
			if total == 0 {
				total = -1
			}
			bar = progressbar.NewOptions64(total, progressbar.OptionSetWriter(w), progressbar.OptionShowBytes(true), progressbar.OptionSetWidth(24),
				progressbar.OptionClearOnFinish(), progressbar.OptionSetElapsedTime(true))
		}
		bar.Describe(fmt.Sprintf("%s events, watermark %s", group(events), mark))
		_ = bar.Set64(bytes) // only a decoration
	}
}

func (p *progress) lines(w io.Writer, watch *engine.Watch) {
	tick := time.NewTicker(10 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-p.end:
			return
		case <-tick.C:
		}
		events, bytes, size, mark := totals(watch.Figures())
		share := ""
		if size > 0 {
			share = fmt.Sprintf(", %d %% of %d MiB", 100*bytes/size, size>>20)
		}
		fmt.Fprintf(w, "%s events%s, watermark %s\n", group(events), share, mark)
	}
}
