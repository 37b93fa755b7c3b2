package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
	"undertide/harbour"
)

func newFault(s *streams) *cobra.Command {
	var r reach
	var most time.Duration
	var keep bool
	var list strings.Builder
	for _, f := range harbour.Faults {
		fmt.Fprintf(&list, "  %-10s  %s\n", f.Name, f.About)
	}
	c := r.command(&cobra.Command{
		Use:   "fault NAME",
		Short: "Bring a job of the running demo into trouble, to practise with",
		Long: `Bring a job of the running demo into trouble, to practise with: a job of its own is saved and started, practice-NAME, and gets events
that trouble it. It says which alarm is expected and within what time, and afterwards whether it came. The job is then removed.

` + list.String(),
		Example: `  undertide demo fault skew
  undertide demo fault crash --for 1m --keep`,
		ValidArgsFunction: func(*cobra.Command, []string, string) (names []string, _ cobra.ShellCompDirective) {
			return faultNames(), cobra.ShellCompDirectiveNoFileComp
		},
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		at := slices.Index(faultNames(), args[0])
		if at < 0 {
			return usageError{fmt.Errorf("there is no fault %s; give %s", args[0], strings.Join(faultNames(), ", "))}
		}
		if most < 5*time.Second {
			return usageError{fmt.Errorf("--for %s is too short to see anything; give 5s or more", most)}
		}
		p := practice{s: s, cl: cl, fault: harbour.Faults[at], job: "practice-" + args[0], most: most, keep: keep}
		return p.run(c.Context())
	})
	c.Flags().DurationVar(&most, "for", 2*time.Minute, "the trouble lasts for `TIME`")
	c.Flags().BoolVar(&keep, "keep", false, "leave the job as it is afterwards")
	return c
}

func faultNames() (names []string) {
	for _, f := range harbour.Faults {
		names = append(names, f.Name)
	}
	return names
}

// practice is a fault that is being made.
type practice struct {
	s     *streams
	cl    *client.Client
	fault harbour.Fault
	job   string
	most  time.Duration
	keep  bool

	began time.Time
	sent  int
	keys  []string // of the events that are sent
	alarm *api.Alarm
}

// run makes the fault and watches for its alarm.
func (p *practice) run(ctx context.Context) error {
	if err := p.start(ctx); err != nil {
		return err
	}
	p.s.say("%s: %s\n  expected   alarm %s, within %s\n  look at it by undertide show %s, undertide watch, undertide alarms %s, or in the console under Jobs, %s\n  it lasts   %s; Ctrl-C ends it before",
		p.job, p.fault.About, p.fault.Alarm, p.fault.Within, p.job, p.job, p.job, p.most)
	err := p.trouble(ctx)
	if !p.keep { // also after Ctrl-C
		err = errors.Join(err, p.tidy())
	}
	if err != nil {
		return err
	}
	if p.alarm == nil {
		return fmt.Errorf("alarm %s of %s did not come within %s", p.fault.Alarm, p.job, span(time.Since(p.began)))
	}
	if took := p.alarm.OnAt.Sub(p.began); took > p.fault.Within {
		return fmt.Errorf("alarm %s of %s came after %s, later than within %s", p.fault.Alarm, p.job, span(took), p.fault.Within)
	}
	return nil
}

// start makes the topic and starts the job anew.
func (p *practice) start(ctx context.Context) error {
	conns, err := p.cl.Connections(ctx)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(conns, func(c api.Connection) bool { return c.Name == "harbour" && c.Via == "kafka" }) {
		return errors.New("faults are made in the harbour, and this service has no connection of that name; start it with undertide demo")
	}
	if err := p.tidy(); err != nil { // what one before has left
		return err
	}
	var known *api.Problem
	if _, err := p.cl.MakeTopic(ctx, "harbour", api.NewTopic{Name: p.fault.Topic(), Partitions: harbour.FaultPartitions}); err != nil && !(errors.As(err, &known) && known.Code == api.TopicExists.Code) {
		return err
	}
	if _, err := p.cl.Save(ctx, p.fault.Job()); err != nil {
		return err
	}
	if _, err := p.cl.Start(ctx, p.job, api.Start{Resume: "fresh"}); err != nil {
		return err
	}
	p.keys = harbour.FaultKeys
	return nil
}

// trouble sends events until the time is over, and says when the alarm is on.
func (p *practice) trouble(ctx context.Context) error {
	p.began = time.Now()
	const tick = 100 * time.Millisecond
	next := time.NewTicker(tick)
	defer next.Stop()
	asked := time.Now()
	for time.Since(p.began) < p.most {
		if err := p.send(ctx, int(time.Since(p.began).Seconds()*float64(p.fault.Rate))-p.sent); err != nil {
			return ended(ctx, err)
		}
		if p.alarm == nil && time.Since(asked) > time.Second {
			asked = time.Now()
			if err := p.ask(ctx); err != nil {
				return ended(ctx, err)
			}
		}
		select {
		case <-next.C:
		case <-ctx.Done():
			return nil
		}
	}
	return nil
}

// ended gives an error, unless it came since somebody ended the practice.
func ended(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// mostSent bounds the bytes of one request with events.
const mostSent = 1 << 20

func (p *practice) send(ctx context.Context, wanted int) error {
	for wanted > 0 {
		var list []api.NewEvent
		bytes := 0
		for len(list) < wanted && bytes < mostSent {
			key := p.keys[p.sent%len(p.keys)]
			text := p.fault.Event(p.sent, key)
			list = append(list, api.NewEvent{Key: &key, Text: text})
			bytes += len(text)
			p.sent++
		}
		if _, err := p.cl.Send(ctx, "harbour", p.fault.Topic(), list); err != nil {
			return err
		}
		wanted -= len(list)
	}
	if p.fault.Name == "silence" && len(p.keys) == len(harbour.FaultKeys) && p.sent > 200 {
		return p.silence(ctx)
	}
	return nil
}

// silence goes on with the keys of partition 0 alone.
func (p *practice) silence(ctx context.Context) error {
	found, err := p.cl.Peek(ctx, "harbour", p.fault.Topic(), client.PeekOptions{From: "newest", Limit: 100, Partition: "0"})
	if err != nil {
		return err
	}
	var keys []string
	for _, e := range found.Events {
		if e.Key != nil && !slices.Contains(keys, *e.Key) {
			keys = append(keys, *e.Key)
		}
	}
	if len(keys) == 0 || len(keys) == len(harbour.FaultKeys) {
		return fmt.Errorf("the keys %s do not go to both partitions of %s", strings.Join(harbour.FaultKeys, ", "), p.fault.Topic())
	}
	p.keys = keys
	p.s.say("from now on events go to partition 0 alone")
	return nil
}

// ask looks for the alarm, and says what the job says once it is on.
func (p *practice) ask(ctx context.Context) error {
	list, err := p.cl.Alarms(ctx, p.job, false, 50)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(list, func(a api.Alarm) bool { return a.Name == p.fault.Alarm && !a.OnAt.Before(p.began) })
	if at < 0 {
		return nil
	}
	p.alarm = &list[at]
	p.s.say("alarm %s came after %s: %s", p.alarm.Name, span(p.alarm.OnAt.Sub(p.began)), p.alarm.Text)
	j, err := p.cl.Job(ctx, p.job)
	if err == nil {
		p.s.say("%s says: %s", p.job, j.Sentence)
	}
	return err
}

// tidy removes the job, if it is there.
func (p *practice) tidy() error {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	if _, err := p.cl.Job(ctx, p.job); err != nil {
		var known *api.Problem
		if errors.As(err, &known) && known.Code == api.NoSuchJob.Code {
			return nil
		}
		return err
	}
	_, _ = p.cl.Stop(ctx, p.job) // it may not run
	if err := p.cl.Delete(ctx, p.job); err != nil {
		return fmt.Errorf("%s could not be removed: %w; do so by undertide stop %s and undertide delete %s", p.job, err, p.job, p.job)
	}
	return nil
}
