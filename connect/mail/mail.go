// Package mail is the kind mail: rows are told by mails over SMTP (docs/connectors.md, "mail").
package mail

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	netmail "net/mail"
	"net/textproto"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"undertide/connect"
	"undertide/connect/notice"
	"undertide/connect/pattern"
	"undertide/connect/secure"
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/disk"
)

// Kind are mails.
var Kind = &connect.Kind{
	Name: "mail", Noun: "mail", About: "mails to people, of rows that they should know",
	Sink: func() connect.Sink { return &sink{} },
	Link: func() connect.Link { return &Link{} },
	SinkExample: connect.Example{Name: "mails", About: "a mail for each row, and none for a while after it",
		Lines: "via: mail\nwith: {connection: CONNECTION, to: [keeper@example.org], subject: NAME, quiet: 10m}"},
}

// Link are the settings of a connection to a mail server (docs/connectors.md, "Connections").
type Link struct {
	_        struct{}            `later:"brokers,sasl,registry,url"`
	Address  string              `set:"address,required" missing:"the mail server is not named" fix:"add address: mail.example.org:587" hint:"mail.example.org:587" about:"Where it takes mails, host:port."`
	From     string              `set:"from,required" missing:"it is not said from whom mails are" fix:"add from: undertide@example.org" hint:"undertide@example.org" about:"From whom mails are."`
	User     string              `set:"user" about:"Who signs in; nobody where it is left out."`
	Password settings.SecretText `set:"password" about:"The password: ${secret.NAME} or ${env.NAME}."`
	TLS      *struct {
		Mode       string           `set:"mode" choices:"starttls,implicit,none" default:"starttls" about:"TLS from the beginning (implicit, port 465), after a greeting (starttls, port 587), or none, on this machine alone."`
		CA         settings.PEMText `set:"ca" label:"authority (PEM)" about:"The authority that signed the server's certificate: PEM, or the path of a file of it." hint:"empty: the system's authorities"`
		ServerName string           `set:"server_name" label:"name in its certificate" about:"The name in the server's certificate, where it is not that of its address." hint:"empty: the host of the address"`
	} `set:"tls" label:"TLS" about:"How far TLS is asked for; without it starttls is."`

	files *disk.Files
}

func (l *Link) split() (host string, port int) {
	host, text, err := net.SplitHostPort(l.Address)
	n, e := strconv.ParseUint(text, 10, 16)
	if err != nil || e != nil || host == "" {
		return "", 0
	}
	return host, int(n)
}

func (l *Link) mode() string {
	if l.TLS == nil {
		return "starttls"
	}
	return cmp.Or(l.TLS.Mode, "starttls")
}

// Check asks for TLS wherever others could listen.
func (l *Link) Check(c *connect.Checker) {
	l.files = c.Files
	host, port := l.split()
	if l.Address != "" && port == 0 {
		c.Fault(fmt.Sprintf("%q is not an address of a mail server", l.Address), "write address: mail.example.org:587", "address")
	}
	if l.From != "" {
		if _, err := netmail.ParseAddress(l.From); err != nil {
			c.Fault(fmt.Sprintf("%q is not an address of a mail", l.From), "write from: undertide@example.org", "from")
		}
	}
	if c.Has("user") != c.Has("password") {
		c.Fault("user and password belong together", "give both or none", "user")
	}
	if l.mode() == "none" && host != "" && !connect.OfThisMachine(host) {
		c.Fault("mails would go in the clear to "+host, "write mode: starttls, or implicit", "tls", "mode")
	}
}

// Words says what is reached, how, and who signs in.
func (l *Link) Words() connect.LinkWords {
	w := connect.LinkWords{Reaches: l.Address, Way: "TLS", SignIn: "nobody signs in"}
	if l.mode() == "none" {
		w.Way = "in the clear"
	}
	if l.User != "" {
		w.SignIn = l.User
	}
	return w
}

// reachIn bounds how long an answer is waited for.
const reachIn = 10 * time.Second

func (l *Link) client() (*mail.Client, error) {
	host, port := l.split()
	name, ca := host, ""
	if t := l.TLS; t != nil {
		name, ca = cmp.Or(t.ServerName, host), string(t.CA)
	}
	secured, err := secure.TLS(l.files, ca, "", "", name)
	if err != nil {
		return nil, err
	}
	opts := []mail.Option{mail.WithPort(port), mail.WithTimeout(reachIn), mail.WithTLSConfig(secured)}
	switch l.mode() {
	case "implicit":
		opts = append(opts, mail.WithSSL())
	case "none":
		opts = append(opts, mail.WithTLSPolicy(mail.NoTLS))
	default:
		opts = append(opts, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if l.User != "" {
		how := mail.SMTPAuthAutoDiscover
		if l.mode() == "none" { // the library gives no password away in the clear unless it is told to
			how = mail.SMTPAuthPlainNoEnc
		}
		opts = append(opts, mail.WithSMTPAuth(how), mail.WithUsername(l.User), mail.WithPassword(string(l.Password)))
	}
	return mail.NewClient(host, opts...)
}

// Look makes a looker.
func (l *Link) Look(name string) (connect.Looker, error) {
	c, err := l.client()
	if err != nil {
		return nil, err
	}
	return &looker{name, l, c}, nil
}

type looker struct {
	name string
	l    *Link
	c    *mail.Client
}

// Close implements [connect.Looker].
func (l *looker) Close() {}

// Try reaches the server and signs in. It sends no mail.
func (l *looker) Try(ctx context.Context, _ string) []connect.Step {
	t := connect.NewTrial(connect.Step{Name: "reached"}, connect.Step{Name: "signed in"})
	ctx, stop := context.WithTimeout(ctx, reachIn)
	defer stop()
	began := time.Now()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", l.l.Address)
	if err != nil {
		t.Say(0, false, "%v", explain(l.name, l.l.Address, err))
		return t
	}
	conn.Close()
	t.Say(0, true, "%s answers in %s", l.l.Address, max(time.Millisecond, time.Since(began).Round(time.Millisecond)))
	session, err := l.c.DialToSMTPClientWithContext(ctx)
	if err != nil {
		t.Say(1, false, "%v", explain(l.name, l.l.Address, err))
		return t
	}
	_ = l.c.CloseWithSMTPClient(session) // it was asked what it was to be asked
	t.Say(1, true, "%s", l.l.Words().SignIn)
	return t
}

// explain words why a server was not reached, or takes nothing.
func explain(name, address string, err error) error {
	var op *net.OpError
	var said *textproto.Error
	who := fmt.Sprintf("mail server %s (%s)", name, address)
	switch {
	case secure.Why(err) != "":
		return fmt.Errorf("%s: %w: %s", who, connect.ErrDenied, secure.Why(err))
	case errors.As(err, &said) && (said.Code == 535 || said.Code == 534 || said.Code == 530 || said.Code == 538):
		return fmt.Errorf("%s: %w: it answers %d %s; check user and password", who, connect.ErrDenied, said.Code, said.Msg)
	case errors.As(err, &op) && op.Op == "dial" && op.Err != nil:
		return fmt.Errorf("%s %w: %s; check that it runs and that the address is right", who, connect.ErrUnreachable, op.Err)
	case strings.Contains(err.Error(), "STARTTLS"):
		return fmt.Errorf("%s: %w: it offers no TLS; take its port that does, or on this machine mode: none", who, connect.ErrDenied)
	}
	return fmt.Errorf("%s %w: %w", who, connect.ErrUnreachable, err)
}

// sink are the settings of mails.
type sink struct {
	Connection *connect.Connection `set:"connection,required" about:"By its name: of the document, of undertide.yaml, or of the service." missing:"the connection is not named" fix:"add connection: and a name of connections"`
	To         []string            `set:"to,required" missing:"it is not said to whom mails go" fix:"add to: [keeper@example.org]" hint:"keeper@example.org" about:"To whom mails go."`
	Subject    pattern.Text        `set:"subject,required,free" missing:"the subject is not said" fix:"add subject: crane {crane}" hint:"crane {crane} over its load" about:"Of each mail, with {field}."`
	Template   pattern.Text        `set:"template,free" about:"The text of each mail, with {field}; without it the row as JSON." hint:"It lifted {tonnes} t at {lifted_at:%H:%M}."`
	Quiet      time.Duration       `set:"quiet,free" about:"For so long after a mail further rows of its key are held back, and counted in its next one as held." hint:"10m"`
	Refused    string              `set:"refused,free" choices:"stop,pass" default:"stop" about:"What becomes of a row whose mail is refused: stop ends the run, pass logs the row and goes on."`
	Key        settings.FieldNames `set:"key,beside" label:"key" hint:"fields, with commas between" about:"By which rows are quiet together; without it all are."`
}

func (s *sink) Check(c *connect.Checker) {
	if c.Has("to") && len(s.To) == 0 {
		c.Fault("it is not said to whom mails go", "add to: [keeper@example.org]", "to")
	}
	for _, to := range s.To {
		if _, err := netmail.ParseAddress(to); err != nil {
			c.Fault(fmt.Sprintf("%q is not an address of a mail", to), "write to: [keeper@example.org]", "to")
		}
	}
	if !c.Has("quiet") {
		c.Warn("each row is a mail, however many there are", "add quiet: 10m, and key: by which rows are quiet together")
	}
	if c.Has("encode") {
		c.Fault("a mail is what its template says", "leave encode out", "encode")
	}
	notice.Check(c, s.Quiet, map[string]pattern.Text{"subject": s.Subject, "template": s.Template})
}

// Atomic: a mail server keeps no number of what it has.
// Stream implements [connect.Streaming]: a mail server has no streams, and is tried as a whole.
func (s *sink) Stream() (*connect.Connection, string) { return s.Connection, strings.Join(s.To, ", ") }

func (s *sink) Atomic() bool { return false }

// Words says what is sent.
func (s *sink) Words(_ *connect.Format, _ row.Schema, d connect.Delivering) connect.SinkWords {
	w := connect.SinkWords{Writes: "a mail for each row to " + strings.Join(s.To, ", "), Delivery: d.AtLeastOnce(false) + ", under the same Message-ID", AsMade: true}
	w.Writes += notice.Bounds(s.Quiet, s.Key)
	return w
}

// Place says where the rows are.
func (s *sink) Place(string, bool) string { return "mails to " + strings.Join(s.To, ", ") }

// Open makes the sink.
func (s *sink) Open(_ context.Context, o connect.Opening) (engine.Sink, error) {
	l, ok := s.Connection.Link.(*Link)
	if !ok {
		return nil, fmt.Errorf("connection %s is not a connection to a mail server", s.Connection.Name)
	}
	client, err := l.client()
	if err != nil {
		return nil, fmt.Errorf("connection %s: %w", s.Connection.Name, err)
	}
	m := &mailer{name: s.Connection.Name, link: l, client: client, to: s.To, as: o.Job + "." + o.Name, filled: !s.Template.Empty()}
	c := notice.Config{To: "mail server " + s.Connection.Name, Key: s.Key, Quiet: s.Quiet, PassOver: s.Refused == "pass", Texts: []pattern.Text{s.Subject}, Most: 1, Start: m.reach, Deliver: m.deliver, Stop: m.leave}
	if m.filled {
		c.Texts = append(c.Texts, s.Template)
	}
	return notice.New(c), nil
}

// mailer sends mails. One goroutine at a time.
type mailer struct {
	name   string
	link   *Link
	client *mail.Client
	to     []string
	as     string // job and sink
	filled bool
	there  bool // a session is open
}

// reach opens a session.
func (m *mailer) reach(ctx context.Context) error {
	if m.there {
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, reachIn)
	defer stop()
	if err := m.client.DialWithContext(ctx); err != nil {
		return explain(m.name, m.link.Address, err)
	}
	m.there = true
	return nil
}

func (m *mailer) leave() {
	if m.there {
		_ = m.client.Close() // whether it hears that changes nothing
		m.there = false
	}
}

// deliver sends a mail.
func (m *mailer) deliver(ctx context.Context, notices []notice.Notice) error {
	letter, err := m.letter(notices[0])
	if err != nil {
		return &notice.Refused{Why: err.Error()}
	}
	if err := m.reach(ctx); err != nil {
		return err
	}
	err = m.client.Send(letter)
	if err == nil {
		return nil
	}
	m.leave()
	var said *mail.SendError
	if errors.As(err, &said) && !said.IsTemp() && said.ErrorCode() >= 500 {
		return &notice.Refused{Why: strings.TrimSpace(said.Error())}
	}
	return explain(m.name, m.link.Address, err)
}

// letter makes a mail. One that is made again of the same row has the same number.
func (m *mailer) letter(n notice.Notice) (*mail.Msg, error) {
	subject, body := oneLine(n.Texts[0]), n.Row
	if m.filled {
		body = n.Texts[1]
	}
	out := mail.NewMsg()
	if err := errors.Join(out.From(m.link.From), out.To(m.to...)); err != nil {
		return nil, err
	}
	out.Subject(subject)
	out.SetDate()
	sum := sha256.Sum256(append([]byte(m.as+"\x00"+strings.Join(m.to, ",")+"\x00"), n.Row...))
	out.SetMessageIDWithValue(fmt.Sprintf("%x@undertide", sum[:16]))
	out.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody answers by a machine
	out.SetBodyString(mail.TypeTextPlain, string(bytes.ToValidUTF8(body, []byte("?")))+"\n")
	return out, nil
}

// oneLine leaves out what would begin another header.
func oneLine(text []byte) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f {
			return ' '
		}
		return c
	}, string(bytes.ToValidUTF8(text, []byte("?"))))
}
