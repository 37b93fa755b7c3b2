package posts

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/go-faster/jx"

	"undertide/connect"
	"undertide/connect/made"
	"undertide/connect/notice"
	"undertide/connect/pattern"
	"undertide/connect/secure"
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/disk"
)

// Link are the settings of a connection to a program that takes posts (docs/connectors.md, "Connections").
type Link struct {
	_        struct{}            `later:"brokers,sasl,registry,address"`
	URL      string              `set:"url,required" missing:"nobody is named who takes posts" fix:"add url: https://example.org/hooks" hint:"https://10.0.0.9/hooks" about:"Where requests go, https:// or http://; a sink may add a path."`
	User     string              `set:"user" about:"Who signs in by a password (Basic)."`
	Password settings.SecretText `set:"password" about:"The password: ${secret.NAME} or ${env.NAME}."`
	Token    settings.SecretText `set:"token" about:"Or a token (Bearer): ${secret.NAME} or ${env.NAME}."`
	TLS      *secure.Settings    `set:"tls" label:"TLS" about:"What TLS takes beside the system's authorities."`

	files *disk.Files
}

// Check says whether secrets would be sent in the clear.
func (l *Link) Check(c *connect.Checker) {
	l.files = c.Files
	u, err := url.Parse(l.URL)
	switch {
	case l.URL == "": // it was said
		return
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "":
		c.Fault(fmt.Sprintf("%q is not an address of a receiver", l.URL), "write url: https://example.org/hooks", "url")
		return
	case u.User != nil:
		c.Fault("the password stands in the clear", "take it out of url, and add user: and password: ${secret.NAME}", "url")
	case c.Has("password") != c.Has("user"):
		c.Fault("user and password belong together", "give both or none", "user")
	case c.Has("token") && c.Has("user"):
		c.Fault("token and user stand together", "keep one of them", "token")
	case (c.Has("password") || c.Has("token")) && u.Scheme == "http" && !connect.OfThisMachine(u.Hostname()):
		c.Fault("the secret would be sent in the clear to "+u.Host, "write https://", "url")
	}
	l.TLS.Check(c.Has, c.Fault)
}

// Words says what is reached, how, and who signs in.
func (l *Link) Words() connect.LinkWords {
	u, err := url.Parse(l.URL)
	if err != nil {
		return connect.LinkWords{Reaches: "nobody"}
	}
	w := connect.LinkWords{Reaches: u.Host + u.Path, Way: "HTTP in the clear", SignIn: "nobody signs in"}
	if u.Scheme == "https" {
		w.Way = "HTTPS"
	}
	if l.User != "" {
		w.SignIn = l.User
	}
	if l.Token != "" {
		w.SignIn = "by a token"
	}
	return w
}

// reachIn bounds how long an answer is waited for.
const reachIn = 10 * time.Second

// client makes what sends. It follows no other address than the one that is named: what is posted there would go elsewhere.
func (l *Link) client() (*http.Client, error) {
	way := http.DefaultTransport.(*http.Transport).Clone()
	way.Proxy = nil // nothing is taken from variables
	secured, err := l.TLS.Config(l.files, "")
	if err != nil {
		return nil, err
	}
	if secured != nil {
		way.TLSClientConfig = secured
	}
	return &http.Client{Transport: way, Timeout: reachIn, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, nil
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
	c    *http.Client
}

// Close implements [connect.Looker].
func (l *looker) Close() { l.c.CloseIdleConnections() }

// Try reaches the receiver, and posts nothing: whether it takes posts is seen with the first one.
func (l *looker) Try(ctx context.Context, _ string) []connect.Step {
	t := connect.NewTrial(connect.Step{Name: "reached"})
	q, err := http.NewRequestWithContext(ctx, http.MethodHead, l.l.URL, nil)
	if err != nil {
		t.Say(0, false, "%v", err)
		return t
	}
	a, err := l.c.Do(q)
	if err != nil {
		t.Say(0, false, "%v", explain(l.name, l.l.URL, err))
		return t
	}
	a.Body.Close()
	t.Say(0, true, "it answers %d to a question without a body; nothing was posted", a.StatusCode)
	return t
}

// explain words why a receiver was not reached.
func explain(name, address string, err error) error {
	var op *net.OpError
	host := address
	if u, e := url.Parse(address); e == nil {
		host = u.Host
	}
	switch {
	case secure.Why(err) != "":
		return fmt.Errorf("receiver %s (%s): %w: %s", name, host, connect.ErrDenied, secure.Why(err))
	case errors.As(err, &op) && op.Err != nil:
		return fmt.Errorf("receiver %s (%s) %w: %s; check that it runs and that the address is right", name, host, connect.ErrUnreachable, op.Err)
	}
	why := err.Error()
	if i := strings.LastIndex(why, ": "); i >= 0 {
		why = why[i+2:]
	}
	return fmt.Errorf("receiver %s (%s) %w: %s", name, host, connect.ErrUnreachable, why)
}

// sink are the settings of posts that are sent.
type sink struct {
	Connection *connect.Connection `set:"connection,required" about:"By its name: of the document, of undertide.yaml, or of the service." missing:"the connection is not named" fix:"add connection: and a name of connections"`
	Path       string              `set:"path" about:"What comes behind the connection's url." hint:"/alarms"`
	Template   pattern.Text        `set:"template,free" about:"The body of each post, with {field}; without it the row as JSON." hint:"crane {crane} lifts {tonnes} t"`
	Type       string              `set:"type,free" about:"What the body is (Content-Type). In one of JSON, values of a template are written as within quotes." default:"application/json, with a template text/plain"`
	Batch      int                 `set:"batch,free" least:"1" most:"10000" default:"1" about:"How many rows one post may have, as a JSON array."`
	Quiet      time.Duration       `set:"quiet,free" about:"For so long after a post further rows of its key are held back, and counted in its next one as held." hint:"10m"`
	Refused    string              `set:"refused,free" choices:"stop,pass" default:"stop" about:"What becomes of a row that the receiver refuses: stop ends the run, pass logs the row and goes on."`
	Key        settings.FieldNames `set:"key,beside" label:"key" hint:"fields, with commas between" about:"By which rows are quiet together; without it all are."`
}

func (s *sink) Check(c *connect.Checker) {
	if s.Path != "" && !strings.HasPrefix(s.Path, "/") {
		c.Fault("the path does not begin with /", "write path: /"+s.Path, "path")
	}
	if s.Batch > 1 && !s.Template.Empty() {
		c.Fault("a template is the body of one row", "leave out batch, or the template", "batch")
	}
	if s.Batch > 1 && s.Quiet > 0 {
		c.Fault("rows that are told together are not quiet one by one", "leave out batch, or quiet", "batch")
	}
	if c.Has("type") && strings.ContainsAny(s.Type, "\r\n") {
		c.Fault("it is not a type of a body", "write type: application/json", "type")
	}
	if c.Has("encode") && c.Format != nil && c.Format.Name != "json" {
		c.Fault("posts are JSON, or what a template says", "leave encode out", "encode")
	}
	notice.Check(c, s.Quiet, map[string]pattern.Text{"template": s.Template})
}

// Atomic: a receiver keeps no number of what it has.
func (s *sink) Atomic() bool { return false }

// Stream implements [connect.Streaming].
func (s *sink) Stream() (*connect.Connection, string) { return s.Connection, s.Path }

func (s *sink) at() string {
	l, ok := s.Connection.Link.(*Link)
	if !ok {
		return ""
	}
	return strings.TrimSuffix(l.URL, "/") + s.Path
}

// Words says what is sent.
func (s *sink) Words(_ *connect.Format, _ row.Schema, d connect.Delivering) connect.SinkWords {
	what := "a post for each row"
	if s.Batch > 1 {
		what = fmt.Sprintf("posts of up to %d rows", s.Batch)
	}
	w := connect.SinkWords{Writes: what + " to " + s.at(), Delivery: d.AtLeastOnce(false) + ", each with an Idempotency-Key by which the receiver may know it", AsMade: true}
	w.Writes += notice.Bounds(s.Quiet, s.Key)
	return w
}

// Place says where the rows are.
func (s *sink) Place(string, bool) string { return s.at() }

// contentType gives what the body is.
func (s *sink) contentType() string {
	if s.Template.Empty() {
		return cmp.Or(s.Type, "application/json")
	}
	return cmp.Or(s.Type, "text/plain; charset=utf-8")
}

// Open makes the sink.
func (s *sink) Open(_ context.Context, o connect.Opening) (engine.Sink, error) {
	l, ok := s.Connection.Link.(*Link)
	if !ok {
		return nil, fmt.Errorf("connection %s is not a connection to a receiver of posts", s.Connection.Name)
	}
	client, err := l.client()
	if err != nil {
		return nil, fmt.Errorf("connection %s: %w", s.Connection.Name, err)
	}
	p := &poster{name: s.Connection.Name, link: l, client: client, address: s.at(), kind: s.contentType(), as: o.Job + "." + o.Name, many: s.Batch > 1, filled: !s.Template.Empty()}
	c := notice.Config{To: "receiver " + s.Connection.Name, Key: s.Key, Quiet: s.Quiet, PassOver: s.Refused == "pass", Most: max(1, s.Batch), Deliver: p.deliver, Stop: client.CloseIdleConnections}
	if p.filled {
		c.Texts = []pattern.Text{s.Template}
	}
	if strings.Contains(p.kind, "json") {
		c.Safe = withinQuotes
	}
	return notice.New(c), nil
}

// withinQuotes writes a text as it stands within the quotes of a JSON string.
func withinQuotes(dst, value []byte) []byte {
	var w jx.Writer
	w.ByteStr(value)
	return append(dst, w.Buf[1:len(w.Buf)-1]...)
}

// poster posts notices.
type poster struct {
	name, address, kind string
	as                  string // job and sink
	link                *Link
	client              *http.Client
	many, filled        bool
}

// mostAnswer bounds what is read of an answer.
const mostAnswer = 64 << 10

func (p *poster) deliver(ctx context.Context, notices []notice.Notice) error {
	body := p.body(notices)
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, p.address, bytes.NewReader(body))
	if err != nil {
		return &notice.Refused{Why: err.Error()}
	}
	sum := sha256.Sum256(append([]byte(p.as+"\x00"), body...))
	q.Header.Set("Content-Type", p.kind)
	q.Header.Set("Idempotency-Key", fmt.Sprintf("%x", sum[:16]))
	q.Header.Set("User-Agent", "undertide")
	switch {
	case p.link.Token != "":
		q.Header.Set("Authorization", "Bearer "+string(p.link.Token))
	case p.link.User != "":
		q.SetBasicAuth(p.link.User, string(p.link.Password))
	}
	a, err := p.client.Do(q)
	if err != nil {
		return explain(p.name, p.address, err)
	}
	defer a.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(a.Body, mostAnswer)) // it explains
	return p.judge(a, text)
}

// judge says what an answer means.
func (p *poster) judge(a *http.Response, text []byte) error {
	said := fmt.Sprintf("it answers %s", a.Status)
	if line := strings.TrimSpace(string(text[:min(len(text), 200)])); line != "" {
		said += ": " + line
	}
	switch code := a.StatusCode; {
	case code < 300:
		return nil
	case code == http.StatusUnauthorized || code == http.StatusForbidden:
		return fmt.Errorf("receiver %s: %w: %s; check user, password or token of the connection", p.name, connect.ErrDenied, said)
	case code == http.StatusRequestTimeout, code == http.StatusTooEarly, code == http.StatusTooManyRequests, code >= 500:
		err := fmt.Errorf("receiver %s %w just now: %s", p.name, connect.ErrUnreachable, said)
		if seconds, e := strconv.Atoi(a.Header.Get("Retry-After")); e == nil && seconds > 0 {
			return &made.Later{Err: err, In: min(time.Duration(seconds)*time.Second, 5*time.Minute)}
		}
		return err
	}
	return &notice.Refused{Why: said}
}

func (p *poster) body(notices []notice.Notice) []byte {
	if p.filled {
		return notices[0].Texts[0]
	}
	if !p.many {
		return notices[0].Row
	}
	out := []byte{'['}
	for i, n := range notices {
		if i > 0 {
			out = append(out, ',')
		}
		out = append(out, n.Row...)
	}
	return append(out, ']')
}
