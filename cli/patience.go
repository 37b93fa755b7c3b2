package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// patience tells whoever waits for a command that says nothing for two seconds that it is at work, and how far it is: on a
// terminal a line that goes on and goes away, elsewhere a line at two seconds, and every ten from then on
// (docs/commands.md, "What takes long").
type patience struct {
	err   io.Writer // what it says goes here
	begun time.Time
	end   chan struct{}
	done  sync.WaitGroup

	mu   sync.Mutex // guards the rest, and who writes
	last time.Time  // of what the command said
	line bool       // its own line stands on the terminal
	far  func() string
}

const patient = 2 * time.Second

// waits are commands that go on until they are ended, or show by themselves how far they are.
var waits = []string{"serve", "broker", "demo", "run", "watch", "fault"}

// terminal says whether something is written to a terminal.
func terminal(w any) bool {
	f, ok := w.(interface{ Fd() uintptr })
	return ok && term.IsTerminal(int(f.Fd()))
}

// watched is a writer whose output patience knows of.
type watched struct {
	io.Writer
	p *patience
}

// Write writes, once the line that says that it takes long is gone.
func (w watched) Write(b []byte) (int, error) {
	w.p.mu.Lock()
	defer w.p.mu.Unlock()
	w.p.clear()
	w.p.last = time.Now()
	return w.Writer.Write(b)
}

// Fd is that of the file that is written to; none for others.
func (w watched) Fd() uintptr {
	if f, ok := w.Writer.(*os.File); ok {
		return f.Fd()
	}
	return ^uintptr(0)
}

// newPatience lets patience know of what a command writes.
func newPatience(s *streams) *patience {
	p := &patience{err: s.err, end: make(chan struct{})}
	s.out, s.err, s.patience = watched{s.out, p}, watched{s.err, p}, p
	return p
}

// begin waits for a command from now on.
func (p *patience) begin(c *cobra.Command, args []string) {
	if slices.Contains(waits, c.Name()) || c.Flag("follow") != nil && c.Flag("follow").Changed {
		return
	}
	p.begun = time.Now()
	p.last = p.begun
	what := strings.Join(append(strings.Fields(c.CommandPath())[1:], args...), " ")
	if slices.Contains([]string{"start", "stop", "drain", "restart", "respread"}, c.Name()) && len(args) > 0 {
		p.mu.Lock()
		p.far = statusOf(c, args[0])
		p.mu.Unlock()
	}
	p.done.Go(func() { p.wait(what) })
}

// stop ends it, and clears its line. It is called once the command has ended, also where it never began.
func (p *patience) stop() {
	close(p.end)
	p.done.Wait()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.clear()
}

// progressing says how far a command is, whenever that is asked; it is to be quick, and safe for concurrent use.
func (s *streams) progressing(far func() string) {
	if s.patience == nil {
		return
	}
	s.patience.mu.Lock()
	defer s.patience.mu.Unlock()
	s.patience.far = far
}

func (p *patience) wait(what string) {
	every := 10 * time.Second
	moves := terminal(p.err)
	if moves {
		every = time.Second
	}
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	next := p.begun.Add(patient)
	for {
		select {
		case <-p.end:
			return
		case now := <-tick.C:
			p.mu.Lock()
			quiet, far := now.Sub(p.last) >= patient, p.far
			p.mu.Unlock()
			if !quiet || now.Before(next) {
				continue
			}
			next = now.Add(every)
			text := fmt.Sprintf("%s: at work for %s", what, time.Since(p.begun).Truncate(time.Second))
			if far != nil {
				if is := far(); is != "" {
					text += "; " + is
				}
			}
			p.show(text, moves)
		}
	}
}

// show writes the line, in place of the last one where the terminal can.
func (p *patience) show(text string, moves bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !moves {
		fmt.Fprintln(p.err, text)
		return
	}
	if f, ok := p.err.(*os.File); ok {
		if wide, _, err := term.GetSize(int(f.Fd())); err == nil && wide > 10 && len(text) >= wide {
			text = strings.ToValidUTF8(text[:wide-2], "") + "…"
		}
	}
	fmt.Fprintf(p.err, "\r\x1b[K%s", text)
	p.line = true
}

// clear takes the line away. p.mu is held.
func (p *patience) clear() {
	if p.line {
		fmt.Fprint(p.err, "\r\x1b[K")
		p.line = false
	}
}

// statusOf says how a job is that is started or stopped.
func statusOf(c *cobra.Command, name string) func() string {
	r := reach{}
	for name, to := range map[string]*string{"server": &r.server, "token": &r.token, "authority": &r.authority} {
		if f := c.Flag(name); f != nil {
			*to = f.Value.String()
		}
	}
	return func() string {
		cl, err := r.client()
		if err != nil {
			return ""
		}
		ctx, cancel := context.WithTimeout(c.Context(), time.Second)
		defer cancel()
		j, err := cl.Job(ctx, name)
		if err != nil {
			return ""
		}
		return strings.TrimSpace(j.Status + ". " + j.Sentence)
	}
}
