// Package posts is the kind http: events are posted to an address, and rows are posted to others (docs/connectors.md, "http"). What is taken is in a journal,
// and synced, before the poster hears of it.
package posts

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"undertide/connect"
	"undertide/connect/journal"
	"undertide/connect/settings"
	"undertide/core/engine"
)

// Kind are posted events.
var Kind = &connect.Kind{
	Name: "http", Noun: "address", About: "events that are posted over HTTP to an address of this machine, and rows that are posted to others",
	Source: func() connect.Source { return &source{} },
	Sink:   func() connect.Sink { return &sink{} },
	Link:   func() connect.Link { return &Link{} },
	SourceExample: connect.Example{Name: "posts", About: "events that others post to the service",
		Lines: "via: http\nwith: {}"},
	SinkExample: connect.Example{Name: "posts", About: "a request for each row",
		Lines: "via: http\nwith: {connection: CONNECTION, path: /NAME}"},
}

// source are the settings of posted events.
type source struct {
	Listen  string        `set:"listen" about:"Where a run takes posts by itself: an address of this machine alone, and a port." hint:"127.0.0.1:8400"`
	Body    settings.Size `set:"body" about:"The largest post that it takes, unpacked." default:"16MiB"`
	Journal settings.Size `set:"journal" about:"Disk space for posts that no checkpoint has passed yet." default:"1GiB"`
	Tokens  bool          `set:"tokens" default:"false" about:"Only posts with a token of the service are taken: undertide tokens."`
	Origins []string      `set:"origins" hint:"https://yard.example.org" about:"Pages of other sites that may post, each as a browser names it."`
}

// TakesPosts implements [connect.Posted].
func (*source) TakesPosts() {}

const (
	defaultBody = 16 << 20
	mostBody    = 128 << 20
)

// Check takes addresses of this machine alone: whoever reaches others may post.
func (s *source) Check(c *connect.Checker) {
	host, port, err := net.SplitHostPort(s.Listen)
	_, portErr := strconv.ParseUint(port, 10, 16)
	switch {
	case !c.Has("listen"): // a service hands them on
	case err != nil || portErr != nil:
		c.Fault(fmt.Sprintf("%q is not an address with a port", s.Listen), "write listen: 127.0.0.1:8400", "listen")
	case !connect.OfThisMachine(host):
		c.Fault(fmt.Sprintf("%s can be reached from other machines, and nobody would have to sign in to post", host), "listen on 127.0.0.1, behind a proxy that knows who may post", "listen")
	}
	if s.Tokens && s.Listen != "" {
		c.Fault("an address of the run's own knows no tokens", "leave listen out: the service takes posts at /in/JOB/SOURCE", "tokens")
	}
	for _, o := range s.Origins {
		if u, err := url.Parse(o); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || o != u.Scheme+"://"+u.Host {
			c.Fault(fmt.Sprintf("%q is not an origin of pages", o), "write scheme and host, and a port where it has one: https://yard.example.org", "origins")
		}
	}
	if s.Body > mostBody {
		c.Fault("so large a post is not taken in one piece", "give 128MiB or less, and post more often", "body")
	}
	if s.Journal > 0 && s.Journal < 2*s.body() {
		c.Fault("the journal has no room for two posts", "give journal at least twice as much as body", "journal")
	}
	if c.Format != nil && c.Format.Name != "json" && c.Format.Name != "text" {
		c.Fault("posts are JSON or lines of text", "write decode: json, or decode: text", "decode")
	}
}

func (s *source) body() settings.Size {
	if s.Body == 0 {
		return defaultBody
	}
	return s.Body
}

// Reads says where posts go.
func (s *source) Reads(f *connect.Format) string {
	return "what is posted to " + s.place() + ", " + f.Name
}

// place says where posts go.
func (s *source) place() string {
	if s.Listen == "" {
		return "/in/JOB/SOURCE of the service"
	}
	return "http://" + s.Listen + "/"
}

// Unbounded implements [connect.Source].
func (s *source) Unbounded() bool { return true }

// Sample implements [connect.Source]: what was posted stands in the journal.
func (s *source) Sample(_ context.Context, _ connect.Opening, which connect.Sampling) (connect.Sample, error) {
	return journal.Look(which, "posts", "post some to "+s.place()+", or give a file of some with --in SOURCE=PATH")
}

// Open opens the journal and listens.
func (s *source) Open(_ context.Context, o connect.Opening) (opened connect.Opened, err error) {
	if s.Tokens && o.Serve == nil {
		return opened, fmt.Errorf("%w: source %s takes posts with tokens of a service; start the job in one, or leave tokens out", connect.ErrUsage, o.Name)
	}
	if s.Listen == "" && o.Serve == nil {
		return opened, fmt.Errorf("%w: source %s takes posts, and it is not said where; write with: {listen: 127.0.0.1:8400}, or start the job in a service, which takes them at /in/%s/%s", connect.ErrUsage, o.Name, o.Job, o.Name)
	}
	j, end, err := journal.OpenIn(o.Journal, journal.Options{Limit: int64(s.Journal), Lease: o.Lease, Leased: o.Leased})
	if err != nil {
		return opened, err
	}
	if o.Journal == "" {
		opened.Notes = append(opened.Notes, "what is posted is not kept beyond this run: it keeps no checkpoints")
	}
	t := newTaker(j, o.Format.Name == "json", s)
	var stops []func()
	if s.Listen != "" {
		h, err := guarded(t)
		if err != nil {
			end()
			return opened, err
		}
		stop, at, err := listen(s.Listen, h)
		if err != nil {
			end()
			return opened, fmt.Errorf("it cannot take posts at %s (%w); give another address in listen", s.Listen, err)
		}
		stops = append(stops, stop)
		opened.Notes = append(opened.Notes, "takes posts at http://"+at+"/")
	}
	if o.Serve != nil {
		stops = append(stops, o.Serve(t))
		opened.Notes = append(opened.Notes, "takes posts at /in/"+o.Job+"/"+o.Name+" of the service")
	}
	opened.Partitions = []engine.Partition{journal.NewPartition(j, "posts")}
	opened.Close = func() {
		for _, stop := range stops {
			stop()
		}
		end()
	}
	return opened, nil
}

// listen serves at an address until end is called.
func listen(address string, h http.Handler) (end func(), at string, err error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, "", err
	}
	server := &http.Server{Handler: h, ReadTimeout: time.Minute, ReadHeaderTimeout: 10 * time.Second, WriteTimeout: time.Minute, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10}
	served := make(chan struct{})
	go func() {
		defer close(served)
		_ = server.Serve(l) // it ends with end; what a request meets is its answer
	}()
	return func() {
		ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
		defer stop()
		if server.Shutdown(ctx) != nil { // posts that hang
			_ = server.Close()
		}
		<-served
	}, l.Addr().String(), nil
}
