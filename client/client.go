// Package client is the Go client of a service's API (docs/service.md). The command line uses nothing
// else to reach a service. Problems of the API come as [*api.Problem]; a service that does not answer
// as [ErrUnreachable].
package client

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/tmaxmax/go-sse"

	"undertide/access"
	"undertide/api"
	"undertide/inside"
	"undertide/job"
	"undertide/try"
)

// DefaultServer is where a service is looked for unless told otherwise.
const DefaultServer = "http://127.0.0.1:7400"

// ErrUnreachable is wrapped where the service does not answer.
var ErrUnreachable = errors.New("the service cannot be reached")

// How long a service has to take a connection, and to begin its answer: it answers whatever is asked within 90 s
// (docs/service.md, "Bounds").
const (
	reachIn  = 5 * time.Second
	answerIn = 100 * time.Second
)

// Client reaches one service. Safe for concurrent use.
type Client struct {
	base string
	http *http.Client

	mu    sync.Mutex // guards token
	token string
}

// Options are what a client brings; the zero value nothing.
type Options struct {
	// Token says who asks. Without it a service on this machine is asked by the token of its data folder, where its file can be read.
	Token string
	// Authority is PEM of the certificates that the service's may be signed by, beside the machine's; nil for none.
	Authority []byte
}

// New makes a client for a service's address; empty means DefaultServer.
func New(server string, by Options) (*Client, error) {
	server = Address(server)
	u, err := url.Parse(server)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not an address of a service; write it as %s", server, DefaultServer)
	}
	reach := http.DefaultTransport.(*http.Transport).Clone()
	reach.DialContext = (&net.Dialer{Timeout: reachIn}).DialContext
	reach.TLSHandshakeTimeout, reach.ResponseHeaderTimeout = reachIn, answerIn
	reach.Proxy = nil // a service is near; what it is asked is nobody's else
	if len(by.Authority) > 0 {
		all, err := x509.SystemCertPool()
		if err != nil {
			all = x509.NewCertPool() // the machine has none
		}
		if !all.AppendCertsFromPEM(by.Authority) {
			return nil, errors.New("there is no certificate in the authority's text; give it as PEM")
		}
		reach.TLSClientConfig = &tls.Config{RootCAs: all, MinVersion: tls.VersionTLS12}
	}
	if by.Token != "" && u.Scheme == "http" && !access.OnLoopback(u.Hostname()) {
		return nil, fmt.Errorf("a token is not sent to %s in the clear; name it as https://", u.Host)
	}
	// A token goes to the service that it is for: what leads elsewhere is not followed.
	stay := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return &Client{base: server, http: &http.Client{Transport: reach, CheckRedirect: stay}, token: by.Token}, nil
}

// Address is a service's address in full, however it was written: "" is DefaultServer, and "10.0.0.5:7400/" is "http://10.0.0.5:7400".
func Address(server string) string {
	if server == "" {
		server = DefaultServer
	}
	if !strings.Contains(server, "://") {
		server = "http://" + server
	}
	return strings.TrimSuffix(server, "/")
}

// query is the part of an address behind the question mark; empty values are left out.
func query(pairs ...string) string {
	q := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" && pairs[i+1] != "0" {
			q.Add(pairs[i], pairs[i+1])
		}
	}
	if len(q) == 0 {
		return ""
	}
	return "?" + q.Encode()
}

func (c *Client) request(ctx context.Context, method, path, kind, accept string, body []byte, header ...string) (*http.Response, error) {
	res, err := c.once(ctx, method, path, kind, accept, body, header...)
	if err == nil && (res.StatusCode == http.StatusUnauthorized || path == "/me") && c.findToken(res.Header.Get(tokenFileHeader)) {
		res.Body.Close()
		res, err = c.once(ctx, method, path, kind, accept, body, header...)
	}
	if err != nil || res.StatusCode < 300 {
		return res, err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 4<<20))
	var p api.Problem
	if err != nil || json.Unmarshal(text, &p) != nil || p.Code == "" {
		return nil, fmt.Errorf("%s answered %s and is perhaps no Under Tide service; check --server", c.base, res.Status)
	}
	return nil, &p
}

// tokenFileHeader names the file of the machine's token (service.TokenFileHeader).
const tokenFileHeader = "Undertide-Token-File"

// findToken takes the token from the data folder of a service of this machine, whose file only the service's user and root can read. The file
// names the address that it is for: whoever listens in the place of a service is given nothing that another one would take.
func (c *Client) findToken(path string) bool {
	u, err := url.Parse(c.base)
	if err != nil || path == "" || filepath.Base(path) != "token" || !access.OnLoopback(u.Hostname()) {
		return false
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.token != "" {
		return false
	}
	if st, err := os.Lstat(path); err != nil || !st.Mode().IsRegular() || st.Mode().Perm()&0o077 != 0 || st.Size() > 4096 {
		return false
	}
	text, err := os.ReadFile(path)
	token, rest, _ := strings.Cut(string(text), "\n")
	at, perr := url.Parse(strings.TrimSpace(rest))
	if err != nil || perr != nil || !access.IsToken(token) || at.Scheme != u.Scheme || at.Port() != u.Port() || !access.OnLoopback(at.Hostname()) {
		return false
	}
	c.token = token
	return true
}

// once asks once; an answer that is a problem is given as it is.
func (c *Client) once(ctx context.Context, method, path, kind, accept string, body []byte, header ...string) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1"+path, bytes.NewReader(body))
	if err != nil {
		return nil, fmt.Errorf("make the request: %w", err)
	}
	if kind != "" {
		r.Header.Set("Content-Type", kind)
	}
	r.Header.Set("Accept", accept)
	c.mu.Lock()
	if c.token != "" {
		r.Header.Set("Authorization", "Bearer "+c.token)
	}
	c.mu.Unlock()
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	res, err := c.http.Do(r)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		var why *url.Error
		if errors.As(err, &why) {
			err = why.Err
		}
		if op := (*net.OpError)(nil); errors.As(err, &op) && op.Err != nil {
			err = op.Err
		}
		return nil, fmt.Errorf("%w at %s: %w; %s", ErrUnreachable, c.base, err, remedy(err))
	}
	return res, nil
}

// remedy says what helps where a service is not reached.
func remedy(err error) string {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	switch {
	case errors.As(err, &unknown):
		return "give the certificate of its authority with --authority FILE"
	case errors.As(err, &name):
		return "call it by a name of its certificate"
	case strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		return "it speaks no TLS; name it as http://"
	}
	return "start it with undertide serve, or name another with --server"
}

func call[T any](ctx context.Context, c *Client, method, path, kind string, body []byte, header ...string) (out T, err error) {
	res, err := c.request(ctx, method, path, kind, "application/json", body, header...)
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.NewDecoder(res.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("read the answer of %s: %w; check --server", c.base, err)
	}
	return out, nil
}

func post[T any](ctx context.Context, c *Client, path string, v any) (T, error) {
	return carry[T](ctx, c, "POST", path, v)
}

func put[T any](ctx context.Context, c *Client, path string, v any) (T, error) {
	return carry[T](ctx, c, "PUT", path, v)
}

// carry sends v as JSON.
func carry[T any](ctx context.Context, c *Client, method, path string, v any) (out T, err error) {
	text, err := json.Marshal(v)
	if err != nil {
		return out, err
	}
	return call[T](ctx, c, method, path, "application/json", text)
}

func name(s string) string { return url.PathEscape(s) }

// Status says how the service is.
func (c *Client) Status(ctx context.Context) (api.Status, error) {
	return call[api.Status](ctx, c, "GET", "/status", "", nil)
}

// Jobs lists all jobs by name.
func (c *Client) Jobs(ctx context.Context) ([]api.Job, error) {
	out := []api.Job{}
	for next := ""; ; {
		p, err := call[api.Page[api.Job]](ctx, c, "GET", "/jobs"+query("after", next), "", nil)
		if err != nil {
			return nil, err
		}
		out = append(out, p.Items...)
		if next = p.Next; next == "" {
			return out, nil
		}
	}
}

// Job gives one job.
func (c *Client) Job(ctx context.Context, job string) (api.Job, error) {
	return call[api.Job](ctx, c, "GET", "/jobs/"+name(job), "", nil)
}

// Save stores a document.
func (c *Client) Save(ctx context.Context, document []byte) (api.Saved, error) {
	return c.SaveFrom(ctx, document, 0)
}

// SaveFrom is Save of a document that was made from a version, which has to be the newest still; 0 for any.
func (c *Client) SaveFrom(ctx context.Context, document []byte, from int) (api.Saved, error) {
	var header []string
	if from > 0 {
		header = []string{"If-Match", strconv.Quote(strconv.Itoa(from))}
	}
	return call[api.Saved](ctx, c, "POST", "/jobs", "application/yaml", document, header...)
}

// Delete removes a job.
func (c *Client) Delete(ctx context.Context, job string) error {
	_, err := call[struct{}](ctx, c, "DELETE", "/jobs/"+name(job), "", nil)
	return err
}

// Start starts a run and waits until it runs, or could not start.
func (c *Client) Start(ctx context.Context, job string, s api.Start) (api.Started, error) {
	return post[api.Started](ctx, c, "/jobs/"+name(job)+"/runs", s)
}

// Stop stops a job's run with a checkpoint.
func (c *Client) Stop(ctx context.Context, job string) (api.Run, error) {
	return call[api.Run](ctx, c, "POST", "/jobs/"+name(job)+"/stop", "", nil)
}

// Drain ends the sources of a job's run where they stand, and lets it finish.
func (c *Client) Drain(ctx context.Context, job string) (api.Run, error) {
	return call[api.Run](ctx, c, "POST", "/jobs/"+name(job)+"/drain", "", nil)
}

// Restart stops a job's run and starts it again.
func (c *Client) Restart(ctx context.Context, job string, s api.Start) (api.Started, error) {
	return post[api.Started](ctx, c, "/jobs/"+name(job)+"/restart", s)
}

// Respread lets a running job go on with so many portions of each part.
func (c *Client) Respread(ctx context.Context, job string, portions int) (api.Started, error) {
	return post[api.Started](ctx, c, "/jobs/"+name(job)+"/respread", api.Respread{Portions: portions})
}

// Versions lists a job's versions, newest first; at most limit.
func (c *Client) Versions(ctx context.Context, job string, limit int) ([]api.Version, error) {
	p, err := call[api.Page[api.Version]](ctx, c, "GET", "/jobs/"+name(job)+"/versions"+query("limit", strconv.Itoa(limit)), "", nil)
	return p.Items, err
}

// Version gives one version with its document; 0 means the newest.
func (c *Client) Version(ctx context.Context, job string, number int) (api.Version, error) {
	which := "newest"
	if number != 0 {
		which = strconv.Itoa(number)
	}
	return call[api.Version](ctx, c, "GET", "/jobs/"+name(job)+"/versions/"+which, "", nil)
}

// Diff gives what differs between two versions.
func (c *Client) Diff(ctx context.Context, job string, a, b int) (api.Diff, error) {
	return call[api.Diff](ctx, c, "GET", "/jobs/"+name(job)+"/diff"+query("a", strconv.Itoa(a), "b", strconv.Itoa(b)), "", nil)
}

// Plan says what a job does.
func (c *Client) Plan(ctx context.Context, of string) (job.Plan, error) {
	return call[job.Plan](ctx, c, "GET", "/jobs/"+name(of)+"/map", "", nil)
}

// Runs lists a job's runs, newest first; at most limit.
func (c *Client) Runs(ctx context.Context, job string, limit int) ([]api.Run, error) {
	p, err := call[api.Page[api.Run]](ctx, c, "GET", "/jobs/"+name(job)+"/runs"+query("limit", strconv.Itoa(limit)), "", nil)
	return p.Items, err
}

// History lists what happened to a job, newest first; at most limit.
func (c *Client) History(ctx context.Context, job string, limit int) ([]api.Event, error) {
	p, err := call[api.Page[api.Event]](ctx, c, "GET", "/jobs/"+name(job)+"/history"+query("limit", strconv.Itoa(limit)), "", nil)
	return p.Items, err
}

// Alarms lists alarms of all jobs, or of one, newest first; with on only those that are on. At most limit.
func (c *Client) Alarms(ctx context.Context, job string, on bool, limit int) ([]api.Alarm, error) {
	v := url.Values{"limit": {strconv.Itoa(limit)}}
	if on {
		v.Set("on", "true")
	}
	if job != "" {
		v.Set("job", job)
	}
	p, err := call[api.Page[api.Alarm]](ctx, c, "GET", "/alarms?"+v.Encode(), "", nil)
	return p.Items, err
}

// See notes that somebody has seen an alarm.
func (c *Client) See(ctx context.Context, id int64, by string) (api.Alarm, error) {
	return carry[api.Alarm](ctx, c, "POST", "/alarms/"+strconv.FormatInt(id, 10)+"/seen", api.Seen{By: by})
}

// Notices lists the ways by which people are told.
func (c *Client) Notices(ctx context.Context) ([]api.Notice, error) {
	p, err := call[api.List[api.Notice]](ctx, c, "GET", "/notices", "", nil)
	return p.Items, err
}

// PutNotice makes or changes a notice, RemoveNotice removes one, and TryNotice tells something by it.
func (c *Client) PutNotice(ctx context.Context, notice string, n api.NewNotice) (api.Notice, error) {
	return put[api.Notice](ctx, c, "/notices/"+name(notice), n)
}

// RemoveNotice removes a notice, and what it was to tell.
func (c *Client) RemoveNotice(ctx context.Context, notice string) error {
	_, err := call[struct{}](ctx, c, "DELETE", "/notices/"+name(notice), "", nil)
	return err
}

// TryNotice tells something by a notice now; the error says why it did not arrive.
func (c *Client) TryNotice(ctx context.Context, notice string) error {
	_, err := call[api.NoticeTried](ctx, c, "POST", "/notices/"+name(notice)+"/try", "", nil)
	return err
}

// Rules lists the alarms that all jobs have.
func (c *Client) Rules(ctx context.Context) ([]api.Rule, error) {
	p, err := call[api.List[api.Rule]](ctx, c, "GET", "/rules", "", nil)
	return p.Items, err
}

// PutRule changes an alarm of all jobs, or makes one; it gives all.
func (c *Client) PutRule(ctx context.Context, rule string, r api.NewRule) ([]api.Rule, error) {
	p, err := carry[api.List[api.Rule]](ctx, c, "PUT", "/rules/"+name(rule), r)
	return p.Items, err
}

// RemoveRule makes an alarm of all jobs as usual again.
func (c *Client) RemoveRule(ctx context.Context, rule string) error {
	_, err := call[struct{}](ctx, c, "DELETE", "/rules/"+name(rule), "", nil)
	return err
}

// PastQuery chooses figures over time; zero values choose the last hour, and those of the job as a whole.
type PastQuery struct {
	Since, Until string
	Names        []string // with * for anything between two dots
	Limit        int
}

// Past gives a job's figures over time.
func (c *Client) Past(ctx context.Context, job string, q PastQuery) (api.PastFigures, error) {
	v := url.Values{"name": q.Names}
	for name, text := range map[string]string{"since": q.Since, "until": q.Until} {
		if text != "" {
			v.Set(name, text)
		}
	}
	if q.Limit > 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	return call[api.PastFigures](ctx, c, "GET", "/jobs/"+name(job)+"/figures?"+v.Encode(), "", nil)
}

// FigureNames lists the figures of a job that are kept over time.
func (c *Client) FigureNames(ctx context.Context, job string) ([]api.FigureName, error) {
	p, err := call[api.List[api.FigureName]](ctx, c, "GET", "/jobs/"+name(job)+"/figures/names", "", nil)
	return p.Items, err
}

// LogQuery chooses lines of a log; zero values choose all.
type LogQuery struct {
	Grep, Level, Since string
	Limit              int
}

// Logs gives the newest lines of a job's log, newest first.
func (c *Client) Logs(ctx context.Context, job string, q LogQuery) ([]api.LogLine, error) {
	p, err := call[api.Page[api.LogLine]](ctx, c, "GET", "/jobs/"+name(job)+"/logs"+query("grep", q.Grep, "level", q.Level, "since", q.Since, "limit", strconv.Itoa(q.Limit)), "", nil)
	return p.Items, err
}

func runAt(id int64) string { return "/runs/" + strconv.FormatInt(id, 10) }

// Figures gives a run's figures.
func (c *Client) Figures(ctx context.Context, id int64) (api.Figures, error) {
	return call[api.Figures](ctx, c, "GET", runAt(id)+"/figures", "", nil)
}

// Checkpoints lists the checkpoints of all runs of a job, newest first; at most limit.
func (c *Client) Checkpoints(ctx context.Context, job string, limit int) ([]api.Checkpoint, error) {
	p, err := call[api.Page[api.Checkpoint]](ctx, c, "GET", "/jobs/"+name(job)+"/checkpoints"+query("limit", strconv.Itoa(limit)), "", nil)
	return p.Items, err
}

// Pins lists a job's pins by name.
func (c *Client) Pins(ctx context.Context, job string) ([]api.Pin, error) {
	p, err := call[api.List[api.Pin]](ctx, c, "GET", "/jobs/"+name(job)+"/pins", "", nil)
	return p.Items, err
}

// Pin keeps a checkpoint of a job under a name.
func (c *Client) Pin(ctx context.Context, job string, ask api.NewPin) (api.Pin, error) {
	return post[api.Pin](ctx, c, "/jobs/"+name(job)+"/pins", ask)
}

// Tokens lists the tokens of a job by name.
func (c *Client) Tokens(ctx context.Context, job string) ([]api.Token, error) {
	p, err := call[api.List[api.Token]](ctx, c, "GET", "/jobs/"+name(job)+"/tokens", "", nil)
	return p.Items, err
}

// MakeToken makes a token that may post to a source of a job.
func (c *Client) MakeToken(ctx context.Context, job string, ask api.NewToken) (api.MadeToken, error) {
	return post[api.MadeToken](ctx, c, "/jobs/"+name(job)+"/tokens", ask)
}

// RevokeToken revokes a token.
func (c *Client) RevokeToken(ctx context.Context, job, token string) error {
	_, err := call[struct{}](ctx, c, "DELETE", "/jobs/"+name(job)+"/tokens/"+name(token), "", nil)
	return err
}

// Unpin forgets a pin.
func (c *Client) Unpin(ctx context.Context, job, pin string) error {
	_, err := call[struct{}](ctx, c, "DELETE", "/jobs/"+name(job)+"/pins/"+name(pin), "", nil)
	return err
}

// mostRows is how many rows of state the service gives in one answer; files have all of them.
const mostRows = 1_000_000

// StateQuery chooses what is shown of a step's state; zero values choose all rows of the newest checkpoint.
type StateQuery struct {
	Checkpoint, From string // an epoch or pin:NAME; From only where two are compared
	Table            string
	Raw              bool
	Key              []string
	Limit            int
	Format           string // of StateFile: json for a row a line
}

func (q StateQuery) query() string {
	v := url.Values{}
	set := func(name, value string, is bool) {
		if is {
			v.Set(name, value)
		}
	}
	set("checkpoint", q.Checkpoint, q.Checkpoint != "")
	set("from", q.From, q.From != "")
	set("table", q.Table, q.Table != "")
	set("raw", "true", q.Raw)
	set("limit", strconv.Itoa(q.Limit), q.Limit > 0)
	set("format", q.Format, q.Format != "")
	for _, k := range q.Key {
		v.Add("key", k)
	}
	if len(v) == 0 {
		return ""
	}
	return "?" + v.Encode()
}

func stateAt(job, step string) string { return "/jobs/" + name(job) + "/state/" + name(step) }

// State gives rows of what a step of a job keeps.
func (c *Client) State(ctx context.Context, job, step string, q StateQuery) (inside.Shown, error) {
	q.Limit = cmp.Or(q.Limit, mostRows)
	return call[inside.Shown](ctx, c, "GET", stateAt(job, step)+q.query(), "", nil)
}

// Spans gives the windows and other spans of what a step keeps.
func (c *Client) Spans(ctx context.Context, job, step string, q StateQuery) (inside.SpansShown, error) {
	return call[inside.SpansShown](ctx, c, "GET", stateAt(job, step)+"/spans"+q.query(), "", nil)
}

// Skew tells how what a step keeps lies over shares and lanes.
func (c *Client) Skew(ctx context.Context, job, step string, q StateQuery) (inside.SkewShown, error) {
	return call[inside.SkewShown](ctx, c, "GET", stateAt(job, step)+"/skew"+q.query(), "", nil)
}

// Compare tells what differs of a step between two checkpoints.
func (c *Client) Compare(ctx context.Context, job, step string, q StateQuery) (inside.ComparedShown, error) {
	q.Limit = cmp.Or(q.Limit, mostRows)
	return call[inside.ComparedShown](ctx, c, "GET", stateAt(job, step)+"/compare"+q.query(), "", nil)
}

// StateFile writes rows of what a step keeps in a form: json (a row a line), csv, parquet, table.
func (c *Client) StateFile(ctx context.Context, w io.Writer, job, step string, q StateQuery) error {
	if q.Format == "json" {
		q.Format = "ndjson"
	}
	return c.file(ctx, w, stateAt(job, step)+q.query())
}

// file writes what an address answers, whatever its form.
func (c *Client) file(ctx context.Context, w io.Writer, path string) error {
	res, err := c.request(ctx, "GET", path, "", "*/*", nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(w, res.Body)
	return err
}

// RowQuery chooses rows; zero values choose the newest hundred.
type RowQuery struct {
	Key   []string // FIELD=VALUE, or values of the key's fields in order
	Since string   // a time, or a duration before now
	Limit int
}

func (q RowQuery) query() string {
	pairs := []string{"since", q.Since, "limit", strconv.Itoa(q.Limit)}
	for _, k := range q.Key {
		pairs = append(pairs, "key", k)
	}
	return query(pairs...)
}

// Rows gives the newest kept rows of a step or output, newest first.
func (c *Client) Rows(ctx context.Context, id int64, step string, q RowQuery) (api.Rows, error) {
	return call[api.Rows](ctx, c, "GET", runAt(id)+"/steps/"+name(step)+"/rows"+q.query(), "", nil)
}

// JobQuery chooses rows of a job; zero values choose the newest hundred, as JSON.
type JobQuery struct {
	RowQuery
	Where, Until string
	Format       string // ndjson, csv or parquet, for a file
}

func (q JobQuery) query() string {
	return q.RowQuery.query() + "&" + strings.TrimPrefix(query("where", q.Where, "until", q.Until, "format", q.Format), "?")
}

// JobRows gives the newest kept rows of a step or output over all runs of a job, newest first.
func (c *Client) JobRows(ctx context.Context, job, step string, q JobQuery) (api.Rows, error) {
	return call[api.Rows](ctx, c, "GET", "/jobs/"+name(job)+"/steps/"+name(step)+"/rows"+q.query(), "", nil)
}

// RowsFile writes them in a form, oldest first.
func (c *Client) RowsFile(ctx context.Context, w io.Writer, job, step string, q JobQuery) error {
	return c.file(ctx, w, "/jobs/"+name(job)+"/steps/"+name(step)+"/rows"+q.query())
}

// Message is a server-sent event. ID is the last that came, of this event or one before.
type Message struct {
	Event, ID string
	Data      json.RawMessage
}

// FollowRows gives rows as they are published, until the run ends or ctx is done.
func (c *Client) FollowRows(ctx context.Context, id int64, step string, q RowQuery) iter.Seq2[Message, error] {
	return c.follow(ctx, runAt(id)+"/steps/"+name(step)+"/rows"+q.query())
}

// FollowFigures gives a run's figures every second, until it ends or ctx is done.
func (c *Client) FollowFigures(ctx context.Context, id int64) iter.Seq2[Message, error] {
	return c.follow(ctx, runAt(id)+"/figures")
}

func (c *Client) follow(ctx context.Context, path string) iter.Seq2[Message, error] {
	return func(yield func(Message, error) bool) {
		res, err := c.request(ctx, "GET", path, "", "text/event-stream", nil)
		if err != nil {
			yield(Message{}, err)
			return
		}
		defer res.Body.Close()
		ended := false
		for e, err := range sse.Read(res.Body, &sse.ReadConfig{MaxEventSize: 64 << 20}) {
			if err != nil {
				break // said below
			}
			if e.Type == "stopping" {
				yield(Message{}, fmt.Errorf("%w at %s: it is stopping; ask again when it has started", ErrUnreachable, c.base))
				return
			}
			if !yield(Message{e.Type, e.LastEventID, json.RawMessage(e.Data)}, nil) {
				return
			}
			ended = ended || e.Type == "end"
		}
		if ctx.Err() == nil && !ended {
			yield(Message{}, fmt.Errorf("%w at %s: it ended while it was listened to; look whether it still runs", ErrUnreachable, c.base))
		}
	}
}

// Ready waits until the service answers, at most so long.
func (c *Client) Ready(ctx context.Context, most time.Duration) error {
	limited, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	for {
		_, err := c.Status(limited)
		if err == nil || limited.Err() != nil || !errors.Is(err, ErrUnreachable) {
			return err
		}
		select {
		case <-limited.Done():
			return err
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func remove(ctx context.Context, c *Client, path string) error {
	_, err := call[struct{}](ctx, c, "DELETE", path, "", nil)
	return err
}

func list[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	l, err := call[api.List[T]](ctx, c, "GET", path, "", nil)
	return l.Items, err
}

// Kept tells what a start of a version would keep; 0 means the newest.
func (c *Client) Kept(ctx context.Context, job string, version int, resume string) (api.Kept, error) {
	return call[api.Kept](ctx, c, "GET", "/jobs/"+name(job)+"/kept"+query("version", strconv.Itoa(version), "resume", resume), "", nil)
}

// Lateness tells how late the events of a job's source come.
func (c *Client) Lateness(ctx context.Context, job, source string, rows int, from string) (api.LatenessOf, error) {
	return call[api.LatenessOf](ctx, c, "GET", "/jobs/"+name(job)+"/lateness"+query("source", source, "rows", strconv.Itoa(rows), "from", from), "", nil)
}

// Connections lists all connections by name.
func (c *Client) Connections(ctx context.Context) ([]api.Connection, error) {
	return list[api.Connection](ctx, c, "/connections")
}

// PutConnection adds a connection, or changes it.
func (c *Client) PutConnection(ctx context.Context, of string, spec api.ConnectionSpec) (api.Connection, error) {
	return put[api.Connection](ctx, c, "/connections/"+name(of), spec)
}

// RemoveConnection removes a connection that no job uses.
func (c *Client) RemoveConnection(ctx context.Context, of string) error {
	return remove(ctx, c, "/connections/"+name(of))
}

// Test tries a connection step by step, and the rights to a topic where one is named.
func (c *Client) Test(ctx context.Context, connection, topic string) (api.Tried, error) {
	return post[api.Tried](ctx, c, "/connections/"+name(connection)+"/test"+query("topic", topic), struct{}{})
}

// Topics lists the topics of a broker.
func (c *Client) Topics(ctx context.Context, connection string) ([]api.Topic, error) {
	return list[api.Topic](ctx, c, "/connections/"+name(connection)+"/topics")
}

// Schemas lists the newest schema of each subject of a connection's registry, or all versions of one.
func (c *Client) Schemas(ctx context.Context, connection, subject string) ([]api.Schema, error) {
	return list[api.Schema](ctx, c, "/connections/"+name(connection)+"/schemas?subject="+url.QueryEscape(subject))
}

// RegisterSchema adds a version to a subject.
func (c *Client) RegisterSchema(ctx context.Context, connection string, s api.NewSchema) (api.Schema, error) {
	return post[api.Schema](ctx, c, "/connections/"+name(connection)+"/schemas", s)
}

// CheckSchema compares a schema with the newest version of a subject.
func (c *Client) CheckSchema(ctx context.Context, connection string, s api.NewSchema) (api.Fits, error) {
	return post[api.Fits](ctx, c, "/connections/"+name(connection)+"/schemas/check", s)
}

// MakeTopic makes a topic.
func (c *Client) MakeTopic(ctx context.Context, connection string, t api.NewTopic) (api.NewTopic, error) {
	return post[api.NewTopic](ctx, c, "/connections/"+name(connection)+"/topics", t)
}

// PeekOptions say which events are wanted. Zero values mean the service's defaults.
type PeekOptions struct {
	From      string // newest, oldest or time
	At        string // a time, or a duration before now
	Limit     int
	Partition string
	Where     string   // a condition over the events' fields; empty for all
	Only      []string // fields; none for all
}

// asked gives the query of what is asked of events.
func (o PeekOptions) asked(q string) string {
	v := url.Values{"only": o.Only}
	if o.Where != "" {
		v.Set("where", o.Where)
	}
	switch more := v.Encode(); {
	case more == "":
		return q
	case q == "":
		return "?" + more
	default:
		return q + "&" + more
	}
}

// Peek gives some events of a topic, and what they are.
func (c *Client) Peek(ctx context.Context, connection, topic string, o PeekOptions) (api.Peek, error) {
	q := query("from", o.From, "at", o.At, "limit", strconv.Itoa(o.Limit))
	if o.Partition != "" {
		q += "&partition=" + url.QueryEscape(o.Partition)
	}
	return call[api.Peek](ctx, c, "GET", "/connections/"+name(connection)+"/topics/"+name(topic)+"/events"+o.asked(q), "", nil)
}

// Begin writes a document to begin with over a topic, for a purpose.
func (c *Client) Begin(ctx context.Context, connection, topic, purpose string, o PeekOptions) (string, error) {
	q := query("purpose", purpose, "from", o.From, "at", o.At, "limit", strconv.Itoa(o.Limit))
	d, err := call[api.Document](ctx, c, "GET", "/connections/"+name(connection)+"/topics/"+name(topic)+"/document"+q, "", nil)
	return d.Document, err
}

// Kinds lists the kinds of connectors and the formats, with their settings.
func (c *Client) Kinds(ctx context.Context) (api.Kinds, error) {
	return call[api.Kinds](ctx, c, "GET", "/kinds", "", nil)
}

// Send sends events to a topic.
func (c *Client) Send(ctx context.Context, connection, topic string, events []api.NewEvent) (api.SentCount, error) {
	return post[api.SentCount](ctx, c, "/connections/"+name(connection)+"/topics/"+name(topic)+"/events", api.Sent{Events: events})
}

// Secrets lists the names of all secrets.
func (c *Client) Secrets(ctx context.Context) ([]api.Secret, error) {
	return list[api.Secret](ctx, c, "/secrets")
}

// PutSecret stores a secret, for addresses; none for those of the connections that name it.
func (c *Client) PutSecret(ctx context.Context, of, text string, addresses []string) (api.Secret, error) {
	return put[api.Secret](ctx, c, "/secrets/"+name(of), api.SecretText{Text: text, For: addresses})
}

// RemoveSecret removes a secret that no connection names.
func (c *Client) RemoveSecret(ctx context.Context, of string) error {
	return remove(ctx, c, "/secrets/"+name(of))
}

// Sources lists the described sources.
func (c *Client) Sources(ctx context.Context) ([]api.Described, error) {
	return list[api.Described](ctx, c, "/sources")
}

// Describe stores a described source.
func (c *Client) Describe(ctx context.Context, of string, d api.DescribedText) (api.Described, error) {
	return put[api.Described](ctx, c, "/sources/"+name(of), d)
}

// RemoveDescribed removes a described source.
func (c *Client) RemoveDescribed(ctx context.Context, of string) error {
	return remove(ctx, c, "/sources/"+name(of))
}

// Rehearse runs a document on a sample.
func (c *Client) Rehearse(ctx context.Context, ask api.Rehearse) (try.Rehearsal, error) {
	return post[try.Rehearsal](ctx, c, "/documents/rehearse", ask)
}

// PeekSource gives some events of a document's source, and what it makes of them.
func (c *Client) PeekSource(ctx context.Context, document, source string, o PeekOptions) (api.Peek, error) {
	return post[api.Peek](ctx, c, "/documents/peek"+o.asked(query("source", source, "rows", strconv.Itoa(o.Limit), "from", o.From)), api.Document{Document: document})
}

// DocumentLateness tells how late the events of a document's source come.
func (c *Client) DocumentLateness(ctx context.Context, document, source string, rows int, from string) (api.LatenessOf, error) {
	return post[api.LatenessOf](ctx, c, "/documents/lateness"+query("source", source, "rows", strconv.Itoa(rows), "from", from), api.Document{Document: document})
}

// FollowEvents gives the events of a topic as they are stored: messages event and note.
func (c *Client) FollowEvents(ctx context.Context, connection, topic string, o PeekOptions) iter.Seq2[Message, error] {
	return c.follow(ctx, "/connections/"+name(connection)+"/topics/"+name(topic)+"/events"+o.asked(""))
}
