package service

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"undertide/access"
	"undertide/api"
	"undertide/api/operations"
	"undertide/lease"
)

// Any node answers for all: what is about a job that another one carries out is passed on to that one (docs/nodes.md, "Any node answers"). The node that was asked finds out who
// asks and whether they may; it tells the other one, to which it shows by a token of its own that it is a node.
const (
	nodeHeader  = "Undertide-Node"  // NAME TOKEN, of the node that passes a request on
	askerHeader = "Undertide-Asker" // who asked it, as JSON
)

// passed is who a request comes from that another node passed on.
type passed struct {
	access.Who
	Person  int64     `json:"person,omitempty"`
	Ends    time.Time `json:"ends,omitzero"`
	Address string    `json:"address"`        // where it came from
	Node    bool      `json:"node,omitempty"` // the node asks by itself
}

// byNode says who a request comes from that a node passed on; false where none did.
func (s *Service) byNode(c *gin.Context) (who asker, there bool) {
	text := c.GetHeader(nodeHeader)
	if text == "" || s.nodes == nil {
		return who, false
	}
	name, token, _ := strings.Cut(text, " ")
	if !s.nodes.knows(c.Request.Context(), name, token) {
		return asker{why: "the node " + cut(name) + " that passes the request on is not known"}, true
	}
	var p passed
	if err := json.Unmarshal([]byte(c.GetHeader(askerHeader)), &p); err != nil {
		return asker{why: "who asks is not told"}, true
	}
	return asker{Who: p.Who, person: p.Person, ends: p.Ends, address: p.Address, passed: true, node: p.Node}, true
}

// knows says whether a token is that of a node.
func (n *nodes) knows(ctx context.Context, name, token string) bool {
	digest := access.DigestOf(token)
	is := func(x lease.Node) bool { return subtle.ConstantTimeCompare(x.Digest, digest[:]) == 1 }
	if x, ok := n.node(name); ok && is(x) {
		return true
	}
	x, err := n.s.db.Node(ctx, name) // it may have joined since the last beat
	return err == nil && is(x)
}

// knowJob reads the jobs again where a request names one that is not known here, or would change one that nobody carries out as far as is known here: it may
// have been saved, or started, on another node a moment ago.
func (s *Service) knowJob(c *gin.Context, o *operations.Operation) {
	name := c.Param("job")
	if s.nodes == nil || name == "" {
		return
	}
	if e, err := s.find(name); err == nil {
		_, elsewhere := s.nodes.holder(s.record(e).ID)
		if r, _ := s.newestRun(e); !o.Changes() || elsewhere || r != nil && r.goingOn() {
			return
		}
	}
	if err := s.readJobs(c.Request.Context()); err != nil {
		s.opt.Log.Debug("the jobs could not be read again", "error", err)
	}
}

// passOn hands a request on to the node that it is for; false where this one answers.
func (s *Service) passOn(c *gin.Context, o *operations.Operation) bool {
	if s.nodes == nil || askerOf(c).passed {
		return false
	}
	to, ok := s.nodeFor(c, o)
	if !ok {
		return false
	}
	s.nodes.pass(c, to)
	if o.Changes() { // whoever asks next asks this one, perhaps
		if err := s.readJobs(c.Request.Context()); err != nil {
			s.opt.Log.Debug("what was changed could not be read", "error", err)
		}
	}
	return true
}

// nodeFor says which node a request is for; false for this one.
func (s *Service) nodeFor(c *gin.Context, o *operations.Operation) (lease.Node, bool) {
	alive := func(x lease.Node, ok bool) (lease.Node, bool) { return x, ok && x.Alive }
	if name := c.Param("node"); name != "" {
		if o.ID != "nodeJobs" || name == s.opt.Node {
			return lease.Node{}, false
		}
		return alive(s.nodes.node(name))
	}
	if name := c.Param("job"); name != "" {
		e, err := s.find(name)
		if err != nil {
			return lease.Node{}, false
		}
		id := s.record(e).ID
		if x, ok := s.nodes.holder(id); ok {
			return alive(x, ok)
		}
		r, last := s.newestRun(e)
		switch {
		case o.ID == "start" && (r == nil || !r.goingOn()):
			return s.nodes.roomiest()
		case r == nil && last != nil && last.Node != s.opt.Node && slices.Contains(ofItsNode, o.ID):
			return alive(s.nodes.node(last.Node))
		}
		return lease.Node{}, false
	}
	if text := c.Param("run"); text != "" {
		id, err := strconv.ParseInt(text, 10, 64)
		if err != nil || s.going(id) != nil {
			return lease.Node{}, false
		}
		rec, err := s.db.Run(c.Request.Context(), id)
		if err != nil {
			return lease.Node{}, false
		}
		if x, ok := alive(s.nodes.holder(rec.JobID)); ok {
			return x, true
		}
		if rec.Node != s.opt.Node && slices.Contains(ofItsNode, o.ID) {
			return alive(s.nodes.node(rec.Node))
		}
	}
	return lease.Node{}, false
}

// ofItsNode are the addresses whose answers lie with the node that carried a job out last, also after it has ended.
var ofItsNode = []string{"logs", "jobRows", "rows", "state", "spans", "skew", "compare", "jobCheckpoints", "checkpoints", "kept"}

// errSignedOut ends a stream that was passed on.
var errSignedOut = errors.New("the session or token has ended")

// pass hands a request on to a node, and its answer back.
func (n *nodes) pass(c *gin.Context, to lease.Node) {
	at, err := url.Parse(to.Address)
	if err != nil {
		n.s.fail(c, fmt.Errorf("the address of node %s: %w", to.Name, err))
		return
	}
	who := askerOf(c)
	told, err := json.Marshal(passed{Who: who.Who, Person: who.person, Ends: who.ends, Address: n.s.addressOf(c)})
	if err != nil {
		n.s.fail(c, err)
		return
	}
	ctx, stop := context.WithCancelCause(c.Request.Context())
	defer stop(nil)
	if wantsStream(c) {
		deadline := http.NewResponseController(c.Writer)
		_ = deadline.SetReadDeadline(time.Time{})
		go n.endWithWho(ctx, c.Copy(), stop)
	}
	proxy := httputil.ReverseProxy{
		Transport:     n.transport(to),
		FlushInterval: -1,
		ErrorLog:      slog.NewLogLogger(n.s.opt.Log.Handler(), slog.LevelDebug),
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(at)
			r.Out.URL.Path, r.Out.URL.RawPath = r.In.URL.Path, r.In.URL.RawPath
			r.Out.Host = at.Host
			for _, h := range []string{"Cookie", "Origin", "Referer", "Sec-Fetch-Site", "Sec-Fetch-Mode", "Sec-Fetch-Dest"} { // judged here
				r.Out.Header.Del(h)
			}
			n.sign(r.Out.Header, told)
		},
		ModifyResponse: func(r *http.Response) error {
			for name := range c.Writer.Header() { // what stands here already
				r.Header.Del(name)
			}
			return nil
		},
		ErrorHandler: func(_ http.ResponseWriter, _ *http.Request, err error) {
			n.s.logOf(c).Warn("a request could not be passed on", "node", to.Name, "error", err)
			c.Header("Retry-After", "2")
			n.s.fail(c, api.Moving.With("node "+to.Name+", which carries the job out, does not answer", ""))
		},
	}
	c.Abort()
	proxy.ServeHTTP(patient{c.Writer}, c.Request.WithContext(ctx))
}

// patient is a writer that lets go of whoever does not read.
type patient struct{ gin.ResponseWriter }

func (p patient) Write(b []byte) (int, error) {
	_ = http.NewResponseController(p.ResponseWriter).SetWriteDeadline(time.Now().Add(writeWithin))
	return p.ResponseWriter.Write(b)
}

// endWithWho ends a stream that was passed on once who asked for it is not who they were, or the service ends.
func (n *nodes) endWithWho(ctx context.Context, c *gin.Context, stop context.CancelCauseFunc) {
	alive := time.NewTicker(aliveEvery)
	defer alive.Stop()
	for {
		fewer := n.s.people.news()
		if !n.s.still(c) {
			stop(errSignedOut)
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-n.s.closing:
			stop(errStopping)
			return
		case <-alive.C:
		case <-fewer:
		}
	}
}

// transports are those to other nodes, by address and pin.
type transports struct {
	mu  sync.Mutex // guards all
	all map[string]*http.Transport
}

// transport reaches a node: over TLS only the one whose certificate has the key that the records say it has.
func (n *nodes) transport(to lease.Node) *http.Transport {
	key := to.Address + " " + to.Pin
	n.ways.mu.Lock()
	defer n.ways.mu.Unlock()
	if t := n.ways.all[key]; t != nil {
		return t
	}
	t := &http.Transport{MaxIdleConnsPerHost: 8, IdleConnTimeout: time.Minute, TLSHandshakeTimeout: 3 * time.Second, ResponseHeaderTimeout: answerRequestWithin, ForceAttemptHTTP2: true, DialContext: (&net.Dialer{Timeout: 3 * time.Second}).DialContext,
		TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, VerifyConnection: func(c tls.ConnectionState) error { // its pin says who it is, in place of an authority
			if len(c.PeerCertificates) == 0 || keyPin(c.PeerCertificates[0]) != to.Pin {
				return fmt.Errorf("it has another certificate than node %s", to.Name)
			}
			return nil
		}}}
	if n.ways.all == nil {
		n.ways.all = map[string]*http.Transport{}
	}
	n.ways.all[key] = t
	return t
}

// keyPin gives what tells a certificate's key from others: the SHA-256 of its SubjectPublicKeyInfo (RFC 7469, section 2.4), hexadecimal.
func keyPin(c *x509.Certificate) string {
	d := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return hex.EncodeToString(d[:])
}

// pinned gives the pin of the service's certificate as it is; empty without TLS.
func pinned(c *tls.Config) func() string {
	return func() string {
		if c == nil || c.GetCertificate == nil {
			return ""
		}
		pair, err := c.GetCertificate(&tls.ClientHelloInfo{})
		if err != nil || pair == nil || pair.Leaf == nil {
			return ""
		}
		return keyPin(pair.Leaf)
	}
}

// sign says in the headers of a request to another node that this one sends it, and for whom: a [passed] as JSON.
func (n *nodes) sign(h http.Header, told []byte) {
	h.Set(nodeHeader, n.s.opt.Node+" "+n.token)
	h.Set(askerHeader, string(told))
}

// askNodeWithin bounds what one node asks another for lists: who looks at them waits.
const askNodeWithin = time.Second

// get asks another node for something, as a reader.
func (n *nodes) get(ctx context.Context, of lease.Node, path string, into any) error {
	return n.getAs(ctx, access.Reader, of, path, into)
}

// getAs is get as somebody who may do more: who may see what comes of it is asked by whoever shows it.
func (n *nodes) getAs(ctx context.Context, role access.Role, of lease.Node, path string, into any) error {
	limited, cancel := context.WithTimeout(ctx, askNodeWithin)
	defer cancel()
	resp, err := n.ask(limited, of, passed{Who: access.Who{Role: role}}, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return fmt.Errorf("node %s answers %d", of.Name, resp.StatusCode)
	}
	return json.NewDecoder(io.LimitReader(resp.Body, 64<<20)).Decode(into)
}

// ask sends another node a request of this one, which may do what as says. Whoever asks closes the answer's body.
func (n *nodes) ask(ctx context.Context, of lease.Node, as passed, method, path string, body io.Reader) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, method, of.Address+"/api/v1"+path, body)
	if err != nil {
		return nil, err
	}
	as.Name, as.Means = "node "+n.s.opt.Node, access.ByMachine
	told, err := json.Marshal(as)
	if err != nil {
		return nil, err
	}
	n.sign(r.Header, told)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	return n.transport(of).RoundTrip(r)
}

// othersJobs is what another node said of the jobs that it carries out.
type othersJobs struct {
	at   time.Time
	jobs []api.Job
}

// othersFor is how long that counts: many may look at once.
const othersFor = 900 * time.Millisecond

// others gives the jobs that other nodes carry out, as those see them, by name.
func (n *nodes) others(ctx context.Context) map[string]api.Job {
	n.asking.Lock()
	defer n.asking.Unlock()
	n.mu.Lock()
	list := n.view.Nodes
	n.mu.Unlock()
	out := map[string]api.Job{}
	var mu sync.Mutex // guards out
	var all sync.WaitGroup
	for _, x := range list {
		if !x.Alive || x.Boot == n.boot || x.Jobs == 0 {
			continue
		}
		all.Go(func() {
			n.mu.Lock()
			had := n.views[x.Name]
			n.mu.Unlock()
			if time.Since(had.at) > othersFor {
				var got api.List[api.Job]
				if err := n.get(ctx, x, "/nodes/"+x.Name+"/jobs", &got); err != nil {
					n.s.opt.Log.Debug("another node does not tell of its jobs", "node", x.Name, "error", err)
					return
				}
				had = othersJobs{time.Now(), got.Items}
				n.mu.Lock()
				n.views[x.Name] = had
				n.mu.Unlock()
			}
			mu.Lock()
			defer mu.Unlock()
			for _, j := range had.jobs {
				out[j.Name] = j
			}
		})
	}
	all.Wait()
	return out
}
