package service

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"regexp"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"github.com/tmaxmax/go-sse"

	"undertide/access"
	"undertide/api"
	"undertide/api/operations"
	"undertide/connect"
	"undertide/job"
	"undertide/look"
	"undertide/store"
)

// handler gives everything that the service serves.
func (s *Service) handler() http.Handler { return plusKept(s.router()) }

func (s *Service) router() *gin.Engine {
	gin.SetMode(gin.ReleaseMode)
	g := gin.New()
	g.HandleMethodNotAllowed = true
	g.UseRawPath = true // a name may hold %2F, as the topics of devices do: it is one part of the path
	g.Use(s.noted, s.recovered, s.guard, s.withoutNull, s.open)
	g.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	g.GET("/readyz", s.known, s.nearby, s.readyz)
	registry := prometheus.NewRegistry()
	registry.MustRegister(collector{s}, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	g.GET("/metrics", s.known, s.nearby, gin.WrapH(promhttp.HandlerFor(registry, promhttp.HandlerOpts{})))

	g.POST("/in/:job/:source", s.takePosts)
	g.OPTIONS("/in/:job/:source", s.takePosts) // of pages of other sites, before they post

	v := g.Group("/api/v1", s.known)
	answers := s.answers()
	for i := range operations.All {
		o := &operations.All[i]
		do := answers[o.ID]
		if do == nil {
			panic("nobody answers " + o.ID) // our own tables are wrong; each test of the service would say so
		}
		v.Handle(o.Method, places.ReplaceAllString(o.Path, ":$1"), func(c *gin.Context) {
			if s.mayPass(c, o) == nil {
				s.knowJob(c, o)
				if s.passOn(c, o) { // that one judges it again
					return
				}
			}
			if err := s.acts(c, o, func() error {
				if err := cmp.Or(s.mayPass(c, o), s.ofPortions(c, o)); err != nil {
					return err
				}
				return do(c)
			}); err != nil {
				s.fail(c, err)
			}
		})
	}
	g.NoMethod(func(c *gin.Context) {
		p := api.WrongRequest.With(c.Request.Method+" is not taken at "+c.Request.URL.Path, "")
		p.Status = http.StatusMethodNotAllowed
		s.fail(c, p)
	})
	g.NoRoute(s.console)
	return g
}

// mayPass says whether who asks may ask this.
func (s *Service) mayPass(c *gin.Context, o *operations.Operation) error {
	return cmp.Or(s.may(c, o.Needs), s.mayOf(c, o))
}

// nearby lets those ask who are on this machine, where the service listens there alone, and readers.
func (s *Service) nearby(c *gin.Context) {
	if !s.beyond {
		return
	}
	if err := s.may(c, access.Reader); err != nil {
		s.fail(c, err)
	}
}

// plusKept lets a plus in a path be a plus (RFC 3986, 3.3): where a path has %2F, the router takes its names apart as those of a
// query, in which a plus is a space.
func plusKept(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.URL.RawPath = strings.ReplaceAll(r.URL.RawPath, "+", "%2B")
		h.ServeHTTP(w, r)
	})
}

// answers are who answers each address of the API, by its name in the table of operations.
func (s *Service) answers() map[string]func(*gin.Context) error {
	return map[string]func(*gin.Context) error{
		"openapi":           func(c *gin.Context) error { c.Data(http.StatusOK, "application/json", api.OpenAPI); return nil },
		"schema":            func(c *gin.Context) error { c.Data(http.StatusOK, "application/json", job.Schema()); return nil },
		"status":            s.getStatus,
		"jobs":              s.getJobs,
		"save":              s.oneOf(s.postJob),
		"job":               s.getJob,
		"delete":            s.deleteJob,
		"stop":              s.postStop,
		"drain":             s.postDrain,
		"respread":          s.postRespread,
		"restart":           s.postRestart,
		"versions":          s.getVersions,
		"version":           s.getVersion,
		"diff":              s.oneOf(s.getDiff),
		"map":               s.oneOf(s.getMap),
		"runs":              s.getRuns,
		"start":             s.postRun,
		"history":           s.getHistory,
		"logs":              s.getLogs,
		"lateness":          s.oneOf(s.getLateness),
		"jobCheckpoints":    s.getJobCheckpoints,
		"pins":              s.getPins,
		"pin":               s.postPin,
		"unpin":             s.deletePin,
		"tokens":            s.getTokens,
		"makeToken":         s.postToken,
		"revokeToken":       s.deleteToken,
		"kept":              s.oneOf(s.getKept),
		"state":             s.oneOf(s.getState),
		"spans":             s.oneOf(s.getSpans),
		"skew":              s.oneOf(s.getSkew),
		"compare":           s.oneOf(s.getCompared),
		"alarms":            s.getAlarms,
		"see":               s.postSeen,
		"notices":           s.getNotices,
		"putNotice":         s.oneOf(s.putNotice),
		"removeNotice":      s.deleteNotice,
		"tryNotice":         s.tryNotice,
		"rules":             s.getRules,
		"putRule":           s.putRule,
		"removeRule":        s.deleteRule,
		"jobAlarms":         s.getAlarms,
		"past":              s.getPast,
		"figureNames":       s.getFigureNames,
		"kinds":             s.getKinds,
		"connections":       s.getConnections,
		"putConnection":     s.oneOf(s.putConnection),
		"removeConnection":  s.deleteConnection,
		"testConnection":    onEvents(s.testConnection),
		"topics":            onEvents(s.getTopics),
		"makeTopic":         onEvents(s.postTopic),
		"schemas":           onEvents(s.getSchemas),
		"registerSchema":    onEvents(s.postSchema),
		"checkSchema":       onEvents(s.checkSchema),
		"uses":              s.getUses,
		"events":            onEvents(s.getEvents),
		"send":              onEvents(s.postEvents),
		"begin":             onEvents(s.getBeginning),
		"secrets":           s.getSecrets,
		"putSecret":         s.putSecret,
		"removeSecret":      s.deleteSecret,
		"rotateSecrets":     s.rotateSecrets,
		"purposes":          s.getPurposes,
		"sources":           s.getSources,
		"putDescribed":      s.oneOf(s.putDescribed),
		"removeDescribed":   s.deleteDescribed,
		"check":             s.oneOf(s.checkDocument),
		"rehearse":          s.oneOf(s.rehearseDocument),
		"examples":          s.oneOf(s.documentExamples),
		"play":              s.oneOf(s.playDocument),
		"documentLateness":  s.oneOf(s.documentLateness),
		"peek":              s.oneOf(s.peekSource),
		"me":                s.getMe,
		"changePassword":    s.postPassword,
		"signIn":            s.postSignIn,
		"signOut":           s.postSignOut,
		"lookAtCode":        s.lookAtCode,
		"signOn":            s.getSignOn,
		"signOnBack":        s.getSignOnBack,
		"enter":             s.postEnter,
		"people":            s.getPeople,
		"addPerson":         s.postPerson,
		"changePerson":      s.putPerson,
		"removePerson":      s.deletePerson,
		"renewPerson":       s.renewPerson,
		"personTokens":      s.getPersonTokens,
		"makePersonToken":   s.postPersonToken,
		"revokePersonToken": s.deletePersonToken,
		"trail":             s.getTrail,
		"putOwners":         s.putOwners,
		"nodes":             s.getNodes,
		"nodeJobs":          s.getNodeJobs,
		"drainNode":         s.drainNode,
		"undrainNode":       s.undrainNode,
		"removeNode":        s.deleteNode,
		"run":               s.getRun,
		"figures":           s.getFigures,
		"checkpoints":       s.getCheckpoints,
		"jobRows":           s.oneOf(s.getJobRows),
		"rows":              s.getRows,
	}
}

// places are names within paths.
var places = regexp.MustCompile(`\{(\w+)\}`)

// recovered turns a fault of our own into a problem; the place is in the log.
func (s *Service) recovered(c *gin.Context) {
	defer func() {
		if r := recover(); r == http.ErrAbortHandler { //nolint:errorlint // it is given as it is
			panic(r) // an answer that was passed on has broken off: so does this one
		} else if r != nil {
			s.logOf(c).Error("a request met a fault of our own", "path", c.Request.URL.Path, "fault", fmt.Sprint(r), "stack", string(debug.Stack()))
			s.fail(c, api.Internal.With("", ""))
		}
	}()
	c.Next()
}

// unreachable says whether what failed is something outside that does not answer.
func unreachable(err error) bool { return errors.Is(err, connect.ErrUnreachable) }

// fail answers with the problem document of an error: the one place where HTTP statuses are chosen.
func (s *Service) fail(c *gin.Context, err error) {
	ctx := c.Request.Context()
	p := problemOf(err)
	switch {
	case ctx.Err() != nil && context.Cause(ctx) == errStopping:
		p = api.Stopping.With("", "")
	case ctx.Err() != nil:
		return // whoever asked has gone
	case p == nil: // what is wrong inside is nobody's to know but the log's
		s.logOf(c).Error("a request met a fault of our own", "path", c.Request.URL.Path, "error", err)
		p = api.Internal.With("", "")
	}
	if c.Writer.Written() {
		return
	}
	numbered := *p
	numbered.Request = c.Writer.Header().Get(requestID)
	body, merr := hiderOf(c).json(numbered)
	if merr != nil {
		body = []byte(`{}`)
	}
	c.Abort()
	c.Data(p.Status, "application/problem+json", body)
}

// ofEvents gives the problem of reading or sending events: what is not among the known ones comes from the place that
// the caller named, and is told.
func ofEvents(err error) error {
	if err == nil || problemOf(err) != nil || errors.Is(err, context.Canceled) {
		return err
	}
	return api.CannotRead.With(halves(err))
}

// onEvents is a handler whose errors come from the place that the caller named.
func onEvents(do func(*gin.Context) error) func(*gin.Context) error {
	return func(c *gin.Context) error { return ofEvents(do(c)) }
}

// problemOf gives the problem of an error that callers can do something about; nil for others.
func problemOf(err error) (p *api.Problem) {
	switch {
	case errors.As(err, &p):
	case errors.Is(err, connect.ErrUsage):
		p = api.WrongRequest.With(strings.TrimPrefix(err.Error(), connect.ErrUsage.Error()+": "), "")
	case errors.Is(err, connect.ErrCannot):
		p = api.WrongRequest.With(strings.TrimPrefix(err.Error(), connect.ErrCannot.Error()+": "), "")
	case errors.Is(err, job.ErrNoSource):
		p = api.WrongRequest.With(strings.TrimPrefix(err.Error(), job.ErrNoSource.Error()+": "), "")
	case errors.Is(err, connect.ErrDenied):
		p = api.AccessDenied.With(halves(err))
	case errors.Is(err, connect.ErrNoStream):
		p = api.NoSuchTopic.With(halves(err))
	case errors.Is(err, connect.ErrNoSchema):
		p = api.NoSuchSchema.With(halves(err))
	case unreachable(err):
		p = api.Unreachable.With(halves(err))
	case errors.Is(err, look.ErrNothing):
		p = api.NoEvents.With("", "")
	case errors.Is(err, store.ErrUnreachable):
		p = api.DatabaseUnreachable.With(err.Error(), "")
	case errors.Is(err, store.ErrNotFound):
		p = api.NoSuchRun.With("", "")
	}
	return p
}

func answer(c *gin.Context, status int, v any) error {
	if err := c.Request.Context().Err(); err != nil {
		return err // what was found out was cut short
	}
	text, err := hiderOf(c).json(v)
	if err != nil {
		return err
	}
	c.Data(status, "application/json; charset=utf-8", text)
	return nil
}

// body reads a request's JSON; an empty one leaves v alone.
func body(c *gin.Context, v any) error {
	text, err := readBody(c)
	if err != nil || len(strings.TrimSpace(string(text))) == 0 {
		return err
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return api.WrongRequest.With("the request's JSON: "+err.Error(), "")
	}
	if _, err := d.Token(); err != io.EOF {
		return api.WrongRequest.With("the request's JSON has something behind its end", "send one value")
	}
	if bytes.Contains(text, []byte(`\u0000`)) {
		var all any
		if json.Unmarshal(text, &all) == nil && hasNull(all) {
			return noNull("JSON")
		}
	}
	return nil
}

// hasNull looks for U+0000 in what JSON holds; `\\u0000` in its text may also be a backslash before some letters.
func hasNull(v any) bool {
	switch v := v.(type) {
	case string:
		return strings.Contains(v, "\x00")
	case []any:
		return slices.ContainsFunc(v, hasNull)
	case map[string]any:
		for name, one := range v {
			if strings.Contains(name, "\x00") || hasNull(one) {
				return true
			}
		}
	}
	return false
}

// mostBody bounds the body of a request: a document, as JSON writes it, or events.
const mostBody = 4 << 20

func readBody(c *gin.Context) ([]byte, error) {
	text, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, mostBody))
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return nil, api.TooLarge.With("", "")
	}
	if err != nil {
		return nil, api.WrongRequest.With("the request ended early, or took too long", "")
	}
	if bytes.IndexByte(text, 0) >= 0 {
		return nil, noNull("text")
	}
	return text, nil
}

// halves gives the fault and the remedy of a message that has both.
func halves(err error) (detail, fix string) {
	text := err.Error()
	if i := strings.Index(text, "; "); i > 0 {
		return text[:i], text[i+2:]
	}
	return text, ""
}

// number reads a whole number from the query.
func number(c *gin.Context, name string, def, least, most int64) (int64, error) {
	text := c.Query(name)
	if text == "" {
		return def, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < least || n > most {
		return 0, api.WrongRequest.With(fmt.Sprintf("%s=%s is not a number from %d to %d", name, text, least, most), "")
	}
	return n, nil
}

// moment reads a time, or a duration before now, from the query.
func moments(c *gin.Context, name string, def time.Time) (time.Time, error) {
	text := c.Query(name)
	if text == "" {
		return def, nil
	}
	if d, err := job.ParseDuration(text); err == nil {
		return time.Now().Add(-d), nil
	}
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return t, api.WrongRequest.With(fmt.Sprintf("%s=%s is neither a time nor a duration", name, text), "write 15m, or 2026-03-01T00:00:00Z")
	}
	return t, nil
}

// wantsStream says whether a client asks for server-sent events.
func wantsStream(c *gin.Context) bool {
	return strings.Contains(c.GetHeader("Accept"), "text/event-stream")
}

// aliveEvery is how often a stream without news says that it goes on, and whether its session or token does is looked at.
const aliveEvery = 15 * time.Second

// sendEvents sends server-sent events: next is called at once and after each news, and sends what there
// is. It goes on until next says that nothing follows, the client has gone, or the service ends, of which an event
// `stopping` tells.
func (s *Service) sendEvents(c *gin.Context, news <-chan struct{}, next func(send func(event, id string, v any)) (more bool)) error {
	leave, ok := s.streams.enter(c.Request.Context(), 0)
	if !ok {
		return tooMany(c, "streams are open", 5)
	}
	defer leave()
	deadline := http.NewResponseController(c.Writer)
	_ = deadline.SetReadDeadline(time.Time{}) // whoever reads a stream sends nothing more
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no")
	c.Status(http.StatusOK)
	alive := time.NewTicker(aliveEvery)
	defer alive.Stop()
	fewer := s.people.news()
	send := func(event, id string, v any) {
		text, err := hiderOf(c).json(v)
		if err != nil {
			return
		}
		m := sse.Message{Type: sse.Type(event)}
		if id != "" {
			m.ID = sse.ID(id)
		}
		m.AppendData(string(text))
		_, _ = m.WriteTo(c.Writer) // one who has gone is told of by the context
	}
	comment := func(text string) {
		var m sse.Message
		m.AppendComment(text)
		_, _ = m.WriteTo(c.Writer)
	}
	comment("begins")
	for {
		_ = deadline.SetWriteDeadline(time.Now().Add(writeWithin)) // one who does not read is let go
		more := next(send)
		c.Writer.Flush()
		if !more {
			return nil
		}
		select {
		case <-c.Request.Context().Done():
			return nil
		case <-s.closing:
			next(send)
			send("stopping", "", api.Stopping)
			c.Writer.Flush()
			return nil
		case <-news:
			continue
		case <-alive.C:
			comment("alive")
		case <-fewer: // somebody may do less than before
			fewer = s.people.news()
		}
		if !s.still(c) {
			send("signed-out", "", api.NotSignedIn.With("the session or token has ended", ""))
			c.Writer.Flush()
			return nil
		}
	}
}

// console serves the console's files; addresses without a file are the console's own places.
func (s *Service) console(c *gin.Context) {
	at := c.Request.URL.Path
	if strings.HasPrefix(at, "/api/") || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		s.fail(c, api.NoSuchAddress.With("there is nothing at "+at, ""))
		return
	}
	if s.opt.Console == nil {
		c.String(http.StatusNotFound, "this program was built without its console; run: make build\n")
		return
	}
	name := strings.TrimPrefix(path.Clean(at), "/")
	if st, err := fs.Stat(s.opt.Console, name); err != nil || st.IsDir() {
		// Names of topics have dots: what a browser opens as a page is a place of the console.
		if path.Ext(name) != "" && (strings.HasPrefix(name, "assets/") || !strings.Contains(c.GetHeader("Accept"), "text/html")) {
			s.fail(c, api.NoSuchAddress.With("there is no file "+at, ""))
			return
		}
		name = "index.html"
	}
	if strings.HasPrefix(name, "assets/") { // their names change with their content
		c.Header("Cache-Control", "public, max-age=31536000, immutable")
	} else {
		c.Header("Cache-Control", "no-cache")
	}
	http.ServeFileFS(c.Writer, c.Request, s.opt.Console, name)
}
