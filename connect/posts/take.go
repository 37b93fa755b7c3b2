package posts

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"mime"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"undertide/connect"
	"undertide/connect/journal"
)

// atOnce is how many posts are taken at a time; others wait for an answer to try again.
const atOnce = 32

// taker answers posts. Safe for concurrent use.
type taker struct {
	j       *journal.Journal
	json    bool
	most    int64 // bytes of a body, unpacked
	busy    chan struct{}
	tokens  bool
	origins []string

	posts, again, turned, events, refused, bytes atomic.Int64 // as connect.PostCounts
}

func newTaker(j *journal.Journal, json bool, s *source) *taker {
	return &taker{j: j, json: json, most: int64(s.body()), busy: make(chan struct{}, atOnce), tokens: s.Tokens, origins: s.Origins}
}

// NeedsToken implements [connect.Taker].
func (t *taker) NeedsToken() bool { return t.tokens }

// TakesFrom implements [connect.Taker].
func (t *taker) TakesFrom(origin string) bool {
	return origin != "" && slices.Contains(t.origins, origin)
}

// Counts implements [connect.Taker].
func (t *taker) Counts() connect.PostCounts {
	return connect.PostCounts{Taken: t.posts.Load(), Again: t.again.Load(), TurnedAway: t.turned.Load(), Events: t.events.Load(), Refused: t.refused.Load(), Bytes: t.bytes.Load()}
}

// TurnAway implements [connect.Taker].
func (t *taker) TurnAway(w http.ResponseWriter, r *http.Request, status int, wait time.Duration) {
	t.allow(w, r)
	if status == http.StatusUnauthorized {
		w.Header().Set("WWW-Authenticate", `Bearer realm="posts"`)
		t.fail(w, status, "the post has no token that may post here", "send Authorization: Bearer and a token; undertide tokens JOB --make NAME makes one")
		return
	}
	w.Header().Set("Retry-After", strconv.Itoa(max(1, int(math.Ceil(wait.Seconds())))))
	t.fail(w, status, "the token has posted more than its rate", fmt.Sprintf("try again in %s", wait.Round(time.Millisecond)))
}

// allow lets the pages of listed origins read the answer (the Fetch standard, "CORS protocol").
func (t *taker) allow(w http.ResponseWriter, r *http.Request) {
	if len(t.origins) == 0 {
		return
	}
	w.Header().Add("Vary", "Origin")
	if origin := r.Header.Get("Origin"); t.TakesFrom(origin) {
		w.Header().Set("Access-Control-Allow-Origin", origin)
		w.Header().Set("Access-Control-Expose-Headers", "Retry-After")
		w.Header().Set("Cross-Origin-Resource-Policy", "cross-origin")
	}
}

// ServeHTTP takes posts at an address of the run's own.
func (t *taker) ServeHTTP(w http.ResponseWriter, r *http.Request) { t.Take(w, r, func(int) {}) }

// answer says what became of a post.
type answer struct {
	Taken int `json:"taken"`
	// First is the number of the first event that was taken.
	First *int64 `json:"first,omitempty"`
	// Again: a post of the same Idempotency-Key was taken before, and this one was not.
	Again   bool      `json:"again,omitempty"`
	Refused []refused `json:"refused,omitempty"`
	// More were refused than are listed.
	More int `json:"more_refused,omitempty"`
}

// refused is an event that was not taken; others of the same post were.
type refused struct {
	Line    int    `json:"line,omitempty"`
	Element int    `json:"element,omitempty"`
	Why     string `json:"why"`
}

const mostRefused = 20

// problem is an answer of RFC 9457.
type problem struct {
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
}

// Take takes a post: a JSON object, an array of them, or one on each line; or lines of text. It answers 202 once all is synced, and
// 400 where some of it cannot be taken: the rest is.
func (t *taker) Take(w http.ResponseWriter, r *http.Request, taken func(events int)) {
	t.allow(w, r)
	if r.URL.Path != "/" && r.URL.Path != "" {
		t.fail(w, http.StatusNotFound, "there is nothing at "+r.URL.Path, "post to /")
		return
	}
	if r.Method == http.MethodOptions && t.TakesFrom(r.Header.Get("Origin")) { // a page asks whether it may post
		w.Header().Set("Access-Control-Allow-Methods", http.MethodPost)
		w.Header().Set("Access-Control-Allow-Headers", "Authorization, Content-Type, Content-Encoding, Idempotency-Key")
		w.Header().Set("Access-Control-Max-Age", "600")
		w.WriteHeader(http.StatusNoContent)
		return
	}
	if r.Method != http.MethodPost {
		w.Header().Set("Allow", http.MethodPost)
		t.fail(w, http.StatusMethodNotAllowed, r.Method+" is not taken", "events are posted: POST /")
		return
	}
	select {
	case t.busy <- struct{}{}:
		defer func() { <-t.busy }()
	default:
		w.Header().Set("Retry-After", "1")
		t.fail(w, http.StatusTooManyRequests, "too many posts at once", fmt.Sprintf("%d are under way; try again in a second, with more events in each", atOnce))
		return
	}
	key := r.Header.Get("Idempotency-Key")
	if len(key) > journal.MostKey {
		t.fail(w, http.StatusBadRequest, "the Idempotency-Key is too long", fmt.Sprintf("it has %d bytes, and may have %d", len(key), journal.MostKey))
		return
	}
	body, ok := t.body(w, r)
	if !ok {
		return
	}
	events, out, err := t.split(body)
	if err != nil {
		t.fail(w, http.StatusBadRequest, "nothing of the body can be taken", err.Error())
		return
	}
	first, again, err := t.j.Append(key, events)
	switch {
	case errors.Is(err, journal.ErrFull):
		w.Header().Set("Retry-After", "5")
		t.fail(w, http.StatusTooManyRequests, "the journal is full", "the job does not keep up: its checkpoints have to pass what was posted; try again in some seconds")
		return
	case err != nil:
		slog.Error("posts are not taken", "error", err)
		w.Header().Set("Retry-After", "5")
		t.fail(w, http.StatusServiceUnavailable, "the events could not be written down", "nothing was taken; try again in some seconds")
		return
	}
	t.bytes.Add(int64(len(body)))
	t.refused.Add(int64(len(out.Refused) + out.More))
	if again {
		t.again.Add(1)
	} else {
		t.posts.Add(1)
		t.events.Add(int64(len(events)))
		taken(len(events))
	}
	status := http.StatusAccepted
	if len(out.Refused) > 0 {
		status = http.StatusBadRequest
	}
	out.Taken, out.Again = len(events), again
	if len(events) > 0 {
		out.First = &first
	}
	write(w, status, "application/json", out)
}

// guarded keeps out the pages of a browser on this machine: those of other sites, and those that call this machine by a name
// of their own.
func guarded(t *taker) (http.Handler, error) {
	sites := http.NewCrossOriginProtection()
	for _, origin := range t.origins {
		if err := sites.AddTrustedOrigin(origin); err != nil {
			return nil, err
		}
	}
	sites.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		t.fail(w, http.StatusForbidden, "the post comes from a page of another site", "post from a program")
	}))
	safe := sites.Handler(t)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.Host)
		if err != nil {
			host = r.Host
		}
		if !connect.OfThisMachine(strings.Trim(host, "[]")) {
			t.fail(w, http.StatusMisdirectedRequest, "this is not "+host, "post to 127.0.0.1")
			return
		}
		safe.ServeHTTP(w, r)
	}), nil
}

// fail answers a post of which nothing is taken.
func (t *taker) fail(w http.ResponseWriter, status int, title, detail string) {
	t.turned.Add(1)
	write(w, status, "application/problem+json", problem{title, status, detail})
}

func write(w http.ResponseWriter, status int, kind string, v any) {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // texts and numbers
	}
	w.Header().Set("Content-Type", kind)
	w.WriteHeader(status)
	_, _ = w.Write(append(text, '\n')) // who has gone does not hear it
}

// body reads a post, unpacked; false where it has been answered.
func (t *taker) body(w http.ResponseWriter, r *http.Request) ([]byte, bool) {
	if kind := r.Header.Get("Content-Type"); kind != "" {
		if _, _, err := mime.ParseMediaType(kind); err != nil {
			t.fail(w, http.StatusUnsupportedMediaType, "the Content-Type cannot be read", fmt.Sprintf("%q is not a media type; write application/json", kind))
			return nil, false
		}
	}
	in := io.Reader(http.MaxBytesReader(w, r.Body, t.most))
	switch packed := strings.ToLower(r.Header.Get("Content-Encoding")); packed {
	case "", "identity":
	case "gzip":
		z, err := gzip.NewReader(in)
		if err != nil {
			t.unread(w, err)
			return nil, false
		}
		in = z
	default:
		w.Header().Set("Accept-Encoding", "gzip")
		t.fail(w, http.StatusUnsupportedMediaType, "the Content-Encoding is not known", fmt.Sprintf("%q cannot be unpacked; pack with gzip, or not at all", packed))
		return nil, false
	}
	body, err := io.ReadAll(io.LimitReader(in, t.most+1))
	if err != nil {
		t.unread(w, err)
		return nil, false
	}
	if int64(len(body)) > t.most {
		t.unread(w, &http.MaxBytesError{Limit: t.most})
		return nil, false
	}
	return body, true
}

// unread answers a post whose body could not be read.
func (t *taker) unread(w http.ResponseWriter, err error) {
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		t.fail(w, http.StatusRequestEntityTooLarge, "the post is too large", fmt.Sprintf("a post may have %d bytes, unpacked; send fewer events in each", t.most))
		return
	}
	t.fail(w, http.StatusBadRequest, "the body cannot be read", err.Error())
}

// split takes a body apart. The events are parts of it. An error says why nothing of it is taken.
func (t *taker) split(body []byte) (events [][]byte, out answer, err error) {
	if !t.json {
		return t.lines(body)
	}
	switch text := bytes.TrimSpace(body); {
	case len(text) == 0:
		return nil, out, errors.New("the body is empty; post a JSON object, an array of them, or one on each line")
	case text[0] == '[':
		return t.elements(text)
	case text[0] == '{' && json.Valid(text) && utf8.Valid(text):
		return [][]byte{text}, out, nil
	}
	return t.lines(body)
}

func (o *answer) refuse(r refused) {
	if len(o.Refused) == mostRefused {
		o.More++
		return
	}
	o.Refused = append(o.Refused, r)
}

// elements takes the objects of an array.
func (t *taker) elements(text []byte) (events [][]byte, out answer, err error) {
	var list []json.RawMessage
	if err := json.Unmarshal(text, &list); err != nil {
		return nil, out, fmt.Errorf("the array is not JSON: %w", err)
	}
	for n, e := range list {
		if why := object(e); why != "" {
			out.refuse(refused{Element: n + 1, Why: why})
			continue
		}
		events = append(events, e)
	}
	return events, out, nil
}

// lines takes an event of each line that is not empty.
func (t *taker) lines(body []byte) (events [][]byte, out answer, err error) {
	n := 0
	for line := range bytes.Lines(body) {
		n++
		text := bytes.TrimRight(line, "\r\n")
		if t.json {
			text = bytes.TrimSpace(text)
		}
		if len(text) == 0 {
			continue
		}
		why := ""
		if t.json {
			why = object(text)
		}
		if why != "" {
			out.refuse(refused{Line: n, Why: why})
			continue
		}
		events = append(events, text)
	}
	return events, out, nil
}

// object says what is wrong with the text of an event; empty for a JSON object.
func object(text []byte) string {
	if !utf8.Valid(text) {
		return "it is not UTF-8"
	}
	if text[0] != '{' {
		return "it is not a JSON object"
	}
	var skip json.RawMessage
	if err := json.Unmarshal(text, &skip); err != nil {
		return "it is not JSON: " + err.Error()
	}
	return ""
}
