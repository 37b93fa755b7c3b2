package posts

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"undertide/connect"
	"undertide/connect/pattern"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

var alarms = row.Schema{{Name: "crane", Kind: row.String}, {Name: "tonnes", Kind: row.Double}}

// receiver takes posts and answers as it is told.
type receiver struct {
	*httptest.Server
	mu     sync.Mutex
	posts  []post
	answer func(n int, p post) (status int, header map[string]string)
}

type post struct{ Path, Body, Key, Type, Sign string }

func receives(t *testing.T) *receiver {
	t.Helper()
	r := &receiver{answer: func(int, post) (int, map[string]string) { return 204, nil }}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body, _ := io.ReadAll(q.Body) // the test sees what it has
		r.mu.Lock()
		defer r.mu.Unlock()
		p := post{q.URL.Path, string(body), q.Header.Get("Idempotency-Key"), q.Header.Get("Content-Type"), q.Header.Get("Authorization")}
		r.posts = append(r.posts, p)
		status, header := r.answer(len(r.posts), p)
		for k, v := range header {
			w.Header().Set(k, v)
		}
		w.WriteHeader(status)
	}))
	t.Cleanup(r.Close)
	return r
}

func (r *receiver) got() []post {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]post(nil), r.posts...)
}

func filledBy(t *testing.T, s string) pattern.Text {
	t.Helper()
	p, err := pattern.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// posting opens a sink, writes rows and waits until they are sent.
func posting(t *testing.T, r *receiver, s *sink, cranes ...string) (engine.Sink, error) {
	t.Helper()
	if s.Connection == nil {
		s.Connection = &connect.Connection{Name: "hooks", Kind: Kind, Link: &Link{URL: r.URL + "/hooks", Token: "secret"}}
	}
	out, err := s.Open(context.Background(), connect.Opening{Job: "j", Name: "s"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = out.Abort() })
	if err := out.Open(nil, 1); err != nil {
		t.Fatal(err)
	}
	b := row.NewBatch(alarms)
	for i, crane := range cranes {
		b.Cols[0].AppendString(crane)
		b.Cols[1].AppendDouble(40.5 + float64(i))
		b.N++
	}
	if err := out.Write(out.NewEncoder(alarms).Append(nil, step.ViewOf(b)), len(cranes)); err != nil {
		return out, err
	}
	_, err = out.Prepare(1)
	return out, err
}

// TestPostsSent: rows are posted as JSON, alone or many together, or as their template says; with who signs in, and a key that is the same when
// they are sent again.
func TestPostsSent(t *testing.T) {
	for name, c := range map[string]struct {
		s    sink
		want []post
	}{
		"rows":     {sink{Path: "/a"}, []post{{"/hooks/a", `{"crane":"C1","tonnes":40.5}`, "", "application/json", "Bearer secret"}, {"/hooks/a", `{"crane":"C\"2","tonnes":41.5}`, "", "application/json", "Bearer secret"}}},
		"together": {sink{Batch: 10}, []post{{"/hooks", `[{"crane":"C1","tonnes":40.5},{"crane":"C\"2","tonnes":41.5}]`, "", "application/json", "Bearer secret"}}},
		"text":     {sink{Template: filledBy(t, "{crane} lifts {tonnes} t")}, []post{{"/hooks", "C1 lifts 40.5 t", "", "text/plain; charset=utf-8", "Bearer secret"}, {"/hooks", `C"2 lifts 41.5 t`, "", "text/plain; charset=utf-8", "Bearer secret"}}},
		"JSON":     {sink{Template: filledBy(t, `{{"text": "{crane}!"}}`), Type: "application/json"}, []post{{"/hooks", `{"text": "C1!"}`, "", "application/json", "Bearer secret"}, {"/hooks", `{"text": "C\"2!"}`, "", "application/json", "Bearer secret"}}},
	} {
		r := receives(t)
		r.answer = func(n int, _ post) (int, map[string]string) {
			return map[bool]int{true: 503, false: 200}[n == 1], nil
		}
		out, err := posting(t, r, &c.s, "C1", `C"2`)
		got := r.got()
		if err != nil || len(got) != len(c.want)+1 || out.(engine.Retrier).Retries() != 1 {
			t.Errorf("%s: %v, posts %+v", name, err, got)
			continue
		}
		if got[0] != got[1] || got[0].Key == "" || len(got) > 2 && got[2].Key == got[1].Key {
			t.Errorf("%s: what was sent again is %+v, after %+v", name, got[1], got[0])
		}
		for i, p := range got[1:] {
			p.Key = ""
			if p != c.want[i] {
				t.Errorf("%s: %+v, want %+v", name, p, c.want[i])
			}
			if strings.Contains(p.Type, "json") && !json.Valid([]byte(p.Body)) {
				t.Errorf("%s: %s is not JSON", name, p.Body)
			}
		}
	}
}

// TestPostsRefused: what a receiver refuses ends the run or is passed over, found among others; when it asks for time it is given; who may not is told; no other address is
// followed; nobody there is waited for.
func TestPostsRefused(t *testing.T) {
	bad := func(_ int, p post) (int, map[string]string) {
		if strings.Contains(p.Body, "bad") {
			return 422, nil
		}
		return 200, nil
	}
	r := receives(t)
	r.answer = bad
	out, err := posting(t, r, &sink{Refused: "pass", Batch: 4}, "C1", "bad", "C2", "C3")
	if rows, why := out.(engine.Refuser).Refused(); err != nil || rows != 1 || !strings.Contains(why, "422") {
		t.Errorf("%v, %d refused: %s", err, rows, why)
	}
	if _, err := posting(t, r, &sink{}, "C1", "bad"); err == nil || !strings.Contains(err.Error(), "422") || !strings.Contains(err.Error(), `"bad"`) {
		t.Errorf("a refused row says %v", err)
	}
	r = receives(t)
	r.answer = func(n int, _ post) (int, map[string]string) {
		return map[bool]int{true: 429, false: 200}[n == 1], map[string]string{"Retry-After": "1"}
	}
	began := time.Now()
	if _, err := posting(t, r, &sink{}, "C1"); err != nil || time.Since(began) < time.Second {
		t.Errorf("asked for a second it took %s, %v", time.Since(began), err)
	}
	for status, want := range map[int]string{401: "check user, password or token", 403: "check user", 302: "302"} {
		r := receives(t)
		r.answer = func(int, post) (int, map[string]string) {
			return status, map[string]string{"Location": "http://127.0.0.1:1/elsewhere"}
		}
		if _, err := posting(t, r, &sink{}, "C1"); err == nil || !strings.Contains(err.Error(), want) || len(r.got()) != 1 {
			t.Errorf("%d says %v after %d posts", status, err, len(r.got()))
		}
	}
	gone := &sink{Connection: &connect.Connection{Name: "hooks", Kind: Kind, Link: &Link{URL: "http://127.0.0.1:1/"}}}
	out, err = gone.Open(context.Background(), connect.Opening{Job: "j", Name: "s"})
	if err != nil {
		t.Fatal(err)
	}
	if err := out.Open(nil, 1); err != nil {
		t.Fatal(err)
	}
	b := row.NewBatch(alarms)
	b.Cols[0].AppendString("C1")
	b.Cols[1].AppendDouble(1)
	b.N = 1
	if err := out.Write(out.NewEncoder(alarms).Append(nil, step.ViewOf(b)), 1); err != nil {
		t.Fatal(err)
	}
	for until := time.Now().Add(10 * time.Second); !strings.Contains(out.(engine.Troubled).Trouble(), "connection refused"); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("a receiver that is away says %q", out.(engine.Troubled).Trouble())
		}
	}
	out.(engine.Interrupter).Interrupt()
	if _, err := out.Prepare(1); !errors.Is(err, context.Canceled) {
		t.Errorf("interrupted: %v", err)
	}
	if err := out.Abort(); err != nil {
		t.Error(err)
	}
}

// TestHeld: rows of a key that is quiet are counted in its next post.
func TestHeld(t *testing.T) {
	for _, c := range []struct {
		template, kind string
		want           []string
	}{
		{"", "", []string{`{"crane":"C1","tonnes":40.5,"held":0}`, `{"crane":"C2","tonnes":43.5,"held":0}`, `{"crane":"C1","tonnes":9,"held":2}`}},
		{"{crane}: {held}", "", []string{"C1: 0", "C2: 0", "C1: 2"}},
		{`{{"text":"{crane}, {held} more"}}`, "application/json", []string{`{"text":"C1, 0 more"}`, `{"text":"C2, 0 more"}`, `{"text":"C1, 2 more"}`}},
	} {
		t.Run(c.kind+c.template, func(t *testing.T) {
			t.Parallel()
			r := receives(t)
			s := &sink{Quiet: 300 * time.Millisecond, Key: []string{"crane"}, Type: c.kind}
			if c.template != "" {
				must(t, s.Template.UnmarshalText([]byte(c.template)))
			}
			out, err := posting(t, r, s, "C1", "C1", "C1", "C2")
			must(t, err)
			time.Sleep(350 * time.Millisecond)
			b := row.NewBatch(alarms)
			b.Cols[0].AppendString("C1")
			b.Cols[1].AppendDouble(9)
			b.N = 1
			must(t, out.Write(out.NewEncoder(alarms).Append(nil, step.ViewOf(b)), 1))
			_, err = out.Prepare(2)
			must(t, err)
			var bodies []string
			for _, p := range r.got() {
				bodies = append(bodies, p.Body)
			}
			if !slices.Equal(bodies, c.want) {
				t.Errorf("got %q, want %q", bodies, c.want)
			}
		})
	}
}
