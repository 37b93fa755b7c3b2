// Package socket is the kind socket: lines over TCP (docs/connectors.md, "socket"). What is read stands in a journal before a
// run sees it, since nobody sends a line again.
package socket

import (
	"cmp"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"strconv"

	"undertide/connect"
	"undertide/connect/journal"
	"undertide/connect/secure"
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/disk"
)

// Kind are lines over TCP.
var Kind = &connect.Kind{
	Name: "socket", Noun: "socket", About: "lines over TCP, of an address that is reached, or of those who reach this machine",
	SourceExample: connect.Example{Name: "lines over TCP", About: "what others send to an address of this machine",
		Lines: "via: socket\nwith: {listen: 127.0.0.1:7000}"},
	Source: func() connect.Source { return &source{} },
}

// source are the settings of a socket.
type source struct {
	Address string        `set:"address,once" about:"What is reached, host:port; it sends the lines." hint:"10.0.0.5:7000"`
	Listen  string        `set:"listen,once" about:"Where others reach this machine, and send lines: an address of this machine alone." hint:"127.0.0.1:7000"`
	Line    settings.Size `set:"line" about:"The longest line that it takes." default:"1MiB"`
	Journal settings.Size `set:"journal" about:"Disk space for lines that no checkpoint has passed yet." default:"1GiB"`
	TLS     *struct {
		CA         settings.PEMText `set:"ca" label:"authority (PEM)" about:"The authority that signed the other side's certificate: PEM, or the path of a file of it." hint:"empty: the system's authorities"`
		ServerName string           `set:"server_name" label:"name in its certificate" about:"The name in the certificate, where it is not that of its address." hint:"empty: the host of the address"`
	} `set:"tls" label:"TLS" about:"Reach the address over TLS."`

	files *disk.Files
}

const (
	defaultLine = 1 << 20
	mostLine    = 16 << 20
)

// Check asks for one of the two ways.
func (s *source) Check(c *connect.Checker) {
	s.files = c.Files
	switch {
	case c.Has("address") && c.Has("listen"):
		c.Fault("address and listen stand together", "keep address to reach somebody, listen to be reached", "listen")
	case !c.Has("address") && !c.Has("listen"):
		c.Fault("it is not said where lines come from", "add address: 10.0.0.5:7000, or listen: 127.0.0.1:7000")
	case c.Has("listen"):
		if c.Has("tls") {
			c.Fault("who is reached on this machine alone needs no TLS", "leave out tls", "tls")
		}
		if host, ok := s.endpoint(c, s.Listen, "listen"); ok && !connect.OfThisMachine(host) {
			c.Fault(fmt.Sprintf("%s can be reached from other machines, and nobody would have to sign in to send", host), "listen on 127.0.0.1, behind a proxy that knows who may send", "listen")
		}
	default:
		s.endpoint(c, s.Address, "address")
	}
	if c.Has("tls") && s.TLS != nil {
		if _, err := s.secured(); err != nil {
			c.Fault(err.Error(), "put it right, or leave it out", "tls")
		}
	}
	if s.Line > mostLine {
		c.Fault("so long a line is not taken in one piece", "give 16MiB or less", "line")
	}
	if s.Journal > 0 && s.Journal < 4*s.line() {
		c.Fault("the journal has hardly room for a line", "give journal at least four times as much as line", "journal")
	}
	if c.Format != nil && c.Format.Name != "json" && c.Format.Name != "text" {
		c.Fault("lines are JSON or text", "write decode: json, or decode: text", "decode")
	}
}

func (s *source) endpoint(c *connect.Checker, text, at string) (host string, ok bool) {
	host, port, err := net.SplitHostPort(text)
	n, portErr := strconv.ParseUint(port, 10, 16)
	if err != nil || portErr != nil || host == "" && at == "address" || n == 0 && at == "address" {
		c.Fault(fmt.Sprintf("%q is not an address with a port", text), "write "+at+": 127.0.0.1:7000", at)
		return "", false
	}
	return host, true
}

func (s *source) line() settings.Size {
	if s.Line == 0 {
		return defaultLine
	}
	return s.Line
}

// secured makes the settings of TLS; nil without.
func (s *source) secured() (*tls.Config, error) {
	if s.TLS == nil {
		return nil, nil
	}
	name := s.TLS.ServerName
	if name == "" {
		name, _, _ = net.SplitHostPort(s.Address) // it was checked
	}
	return secure.TLS(s.files, string(s.TLS.CA), "", "", name)
}

// Reads says where lines come from.
func (s *source) Reads(f *connect.Format) string {
	if s.Listen != "" {
		return "lines sent to " + s.Listen + ", " + f.Name
	}
	way := ""
	if s.TLS != nil {
		way = " over TLS"
	}
	return "lines of " + s.Address + way + ", " + f.Name
}

// Unbounded implements [connect.Source].
func (s *source) Unbounded() bool { return true }

// Sample implements [connect.Source]: what the run took stands in the journal; what is looked at elsewhere would be lost to it.
func (s *source) Sample(_ context.Context, _ connect.Opening, which connect.Sampling) (connect.Sample, error) {
	return journal.Look(which, "lines", "give a file of some lines with --in SOURCE=PATH")
}

// Open opens the journal, and reads lines into it from then on.
func (s *source) Open(_ context.Context, o connect.Opening) (opened connect.Opened, err error) {
	secured, err := s.secured()
	if err != nil {
		return opened, err
	}
	j, end, err := journal.OpenIn(o.Journal, journal.Options{Limit: int64(s.Journal), Lease: o.Lease, Leased: o.Leased})
	if err != nil {
		return opened, err
	}
	if o.Journal == "" {
		opened.Notes = append(opened.Notes, "lines are not kept beyond this run: it keeps no checkpoints")
	}
	t := newTaker(j, int(s.line()), cmp.Or(int64(s.Journal), journal.DefaultLimit))
	if s.Listen != "" {
		l, err := net.Listen("tcp", s.Listen)
		if err != nil {
			end()
			return opened, fmt.Errorf("it cannot be reached at %s (%w); give another address in listen", s.Listen, err)
		}
		opened.Notes = append(opened.Notes, "takes lines at "+l.Addr().String())
		t.serve(l)
	} else {
		t.reach(s.Address, secured)
	}
	opened.Partitions = []engine.Partition{&partition{journal.NewPartition(j, "lines"), t}}
	opened.Close = func() {
		t.stop()
		end()
	}
	return opened, nil
}

// partition is the journal's, and says what keeps lines from coming.
type partition struct {
	*journal.Partition
	t *taker
}

// Trouble implements [engine.Troubled].
func (p *partition) Trouble() string { return p.t.trouble() }
