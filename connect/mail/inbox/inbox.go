// Package inbox is a stand-in for whoever gets notices, for tests and the demo: it takes mails over SMTP, on loopback alone, and
// keeps the newest. Nothing is sent on.
package inbox

import (
	"errors"
	"io"
	"net"
	"net/mail"
	"strings"
	"sync"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Mail is one that was taken.
type Mail struct {
	From, ID, Subject, Text string
	To                      []string
}

// Inbox is a running stand-in. Its fields may be set before the first mail comes.
type Inbox struct {
	Addr string // host:port
	// User and Password are asked for, where they are not empty.
	User, Password string
	// Refuse says why a mail is not taken; nil, or giving nil, for nothing.
	Refuse func(m Mail) error

	server *smtp.Server
	done   chan struct{}

	mu    sync.Mutex // guards mails
	mails []Mail
}

// most is how many mails are kept.
const most = 1000

// Start starts one at an address of this machine; port 0 for a free one.
func Start(listen string) (*Inbox, error) {
	host, _, err := net.SplitHostPort(listen)
	if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
		return nil, errors.New("the inbox listens on loopback alone: give 127.0.0.1:PORT")
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, err
	}
	b := &Inbox{Addr: l.Addr().String(), done: make(chan struct{})}
	b.server = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{box: b}, nil }))
	b.server.Domain, b.server.AllowInsecureAuth, b.server.MaxMessageBytes, b.server.ErrorLog = "localhost", true, 1<<20, silent{}
	go func() {
		defer close(b.done)
		_ = b.server.Serve(l) // it ends with Close
	}()
	return b, nil
}

// silent says nothing of connections that break.
type silent struct{}

func (silent) Printf(string, ...any) {}
func (silent) Println(...any)        {}

// Close ends it, and all sessions.
func (b *Inbox) Close() {
	_ = b.server.Close() // it takes nothing more
	<-b.done
}

// Mails gives those that are kept, the oldest first.
func (b *Inbox) Mails() []Mail {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]Mail(nil), b.mails...)
}

// session is a conversation.
type session struct {
	box    *Inbox
	signed bool
	from   string
	to     []string
}

// AuthMechanisms implements [smtp.AuthSession].
func (s *session) AuthMechanisms() []string { return []string{sasl.Plain} }

// Auth implements [smtp.AuthSession].
func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != s.box.User || password != s.box.Password {
			return smtp.ErrAuthFailed
		}
		s.signed = true
		return nil
	}), nil
}

// Mail implements [smtp.Session].
func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if s.box.User != "" && !s.signed {
		return smtp.ErrAuthRequired
	}
	s.from = from
	return nil
}

// Rcpt implements [smtp.Session].
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, to)
	return nil
}

// Data implements [smtp.Session].
func (s *session) Data(r io.Reader) error {
	m, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	text, err := io.ReadAll(m.Body)
	if err != nil {
		return err
	}
	got := Mail{From: s.from, To: s.to, ID: m.Header.Get("Message-ID"), Subject: m.Header.Get("Subject"), Text: strings.TrimSpace(string(text))}
	if s.box.Refuse != nil {
		if err := s.box.Refuse(got); err != nil {
			return err
		}
	}
	s.box.mu.Lock()
	defer s.box.mu.Unlock()
	if s.box.mails = append(s.box.mails, got); len(s.box.mails) > most {
		s.box.mails = s.box.mails[1:]
	}
	return nil
}

// Reset implements [smtp.Session].
func (s *session) Reset() { s.from, s.to = "", nil }

// Logout implements [smtp.Session].
func (s *session) Logout() error { return nil }
