package mail

import (
	"context"
	"errors"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"undertide/connect"
	"undertide/connect/mail/inbox"
	"undertide/connect/pattern"
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

var fields = row.Schema{{Name: "crane", Kind: row.String}, {Name: "tonnes", Kind: row.Double}, {Name: "at", Kind: row.Timestamp}}

func box(t *testing.T) *inbox.Inbox {
	t.Helper()
	b, err := inbox.Start("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	return b
}

func text(t *testing.T, s string) pattern.Text {
	t.Helper()
	p, err := pattern.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func inTheClear(l *Link) *Link {
	described := reflect.ValueOf(l).Elem().FieldByName("TLS")
	described.Set(reflect.New(described.Type().Elem()))
	l.TLS.Mode = "none"
	return l
}

// sends opens a sink, writes a row for each crane and waits until they are sent.
func sends(t *testing.T, s *sink, cranes ...string) (engine.Sink, error) {
	t.Helper()
	out, err := s.Open(context.Background(), connect.Opening{Job: "j", Name: "s"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = out.Abort() })
	if err := out.Open(nil, 1); err != nil {
		return out, err
	}
	b := row.NewBatch(fields)
	for i, crane := range cranes {
		b.Cols[0].AppendString(crane)
		b.Cols[1].AppendDouble(float64(i) + 40.5)
		b.Cols[2].AppendInt(time.Date(2026, 3, 1, 7, 30, 0, 0, time.UTC).UnixMicro())
		b.N++
	}
	if err := out.Write(out.NewEncoder(fields).Append(nil, step.ViewOf(b)), len(cranes)); err != nil {
		return out, err
	}
	_, err = out.Prepare(1)
	return out, err
}

func to(address string) *connect.Connection {
	return &connect.Connection{Name: "post", Kind: Kind, Link: inTheClear(&Link{Address: address, From: "undertide@example.org"})}
}

// TestMails: rows become mails, in order, with their fields; what would begin another header does not; a row that is sent again has the same number.
func TestMails(t *testing.T) {
	b := box(t)
	s := &sink{Connection: to(b.Addr), To: []string{"keeper@example.org", "mate@example.org"}, Subject: text(t, "crane {crane} over its load"), Template: text(t, "It lifted {tonnes} t at {at:%H:%M}.")}
	for range 2 {
		if _, err := sends(t, s, "C1", "C2\r\nBcc: x@example.org"); err != nil {
			t.Fatal(err)
		}
	}
	got := b.Mails()
	if len(got) != 4 {
		t.Fatalf("%d mails: %+v", len(got), got)
	}
	first := got[0]
	if first.From != "undertide@example.org" || strings.Join(first.To, " ") != "keeper@example.org mate@example.org" || first.Subject != "crane C1 over its load" || first.Text != "It lifted 40.5 t at 07:30." {
		t.Errorf("%+v", first)
	}
	if strings.Contains(got[1].Subject, "\n") || len(got[1].To) != 2 {
		t.Errorf("a field adds a header: %+v", got[1])
	}
	if got[0].ID != got[2].ID || got[0].ID == got[1].ID || got[0].ID == "" {
		t.Errorf("the numbers are %s, %s and again %s", got[0].ID, got[1].ID, got[2].ID)
	}
}

// TestRefusals: a mail that is put off is sent again; one that is refused ends the run or is passed over; who may not sign in is told.
func TestRefusals(t *testing.T) {
	b := box(t)
	off := 2
	b.Refuse = func(m inbox.Mail) error {
		switch {
		case strings.Contains(m.Subject, "bad"):
			return &smtp.SMTPError{Code: 554, Message: "no such thing"}
		case off > 0:
			off--
			return &smtp.SMTPError{Code: 451, Message: "later"}
		}
		return nil
	}
	s := &sink{Connection: to(b.Addr), To: []string{"keeper@example.org"}, Subject: text(t, "{crane}"), Refused: "pass"}
	out, err := sends(t, s, "C1", "bad", "C2")
	if rows, why := out.(engine.Refuser).Refused(); err != nil || len(b.Mails()) != 2 || rows != 1 || !strings.Contains(why, "no such thing") {
		t.Errorf("%v; %d mails, %d refused: %s", err, len(b.Mails()), rows, why)
	}
	if tries := out.(engine.Retrier).Retries(); tries != 2 {
		t.Errorf("%d tries failed", tries)
	}
	s.Refused = "stop"
	if _, err := sends(t, s, "bad"); err == nil || !strings.Contains(err.Error(), "no such thing") {
		t.Errorf("a refused mail says %v", err)
	}
	signed := box(t)
	signed.User, signed.Password = "tide", "right"
	for password, want := range map[string]error{"right": nil, "wrong": connect.ErrDenied} {
		c := to(signed.Addr)
		l := c.Link.(*Link)
		l.User = "tide"
		l.Password = settings.SecretText(password)
		_, err := sends(t, &sink{Connection: c, To: []string{"keeper@example.org"}, Subject: text(t, "{crane}")}, "C1")
		if !errors.Is(err, want) || want == nil && err != nil {
			t.Errorf("password %s: %v", password, err)
		}
		looker, err := l.Look("post")
		if err != nil {
			t.Fatal(err)
		}
		if steps := looker.Try(context.Background(), ""); (steps[1].State == "yes") != (want == nil) {
			t.Errorf("password %s: %+v", password, steps)
		}
	}
	nobody := &sink{Connection: to("127.0.0.1:1"), To: []string{"keeper@example.org"}, Subject: text(t, "{crane}")}
	if _, err := sends(t, nobody, "C1"); !errors.Is(err, connect.ErrUnreachable) {
		t.Errorf("nobody there: %v", err)
	}
	asked := to(b.Addr)
	asked.Link.(*Link).TLS.Mode = "starttls"
	if _, err := sends(t, &sink{Connection: asked, To: []string{"keeper@example.org"}, Subject: text(t, "{crane}")}, "C1"); !errors.Is(err, connect.ErrDenied) || !strings.Contains(err.Error(), "no TLS") {
		t.Errorf("a server without TLS: %v", err)
	}
}
