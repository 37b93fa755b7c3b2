package posts

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"undertide/connect/journal"
)

func pack(t *testing.T, text string) string {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if _, err := z.Write([]byte(text)); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// taken reads what a journal has.
func taken(t *testing.T, j *journal.Journal) (out []string) {
	t.Helper()
	r, err := j.Read(0)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	for {
		e, _, ok, err := r.Next()
		if err != nil {
			t.Fatal(err)
		}
		if !ok {
			return out
		}
		out = append(out, string(e))
	}
}

// TestTake: what each post is answered, and what of it is written down.
func TestTake(t *testing.T) {
	for _, c := range []struct {
		name, body string
		head       string // Name: value
		text       bool
		status     int
		answer     string // a part of it
		taken      string // with / between
	}{
		{name: "an object", body: `{"a":1}`, status: 202, answer: `{"taken":1,"first":0}`, taken: `{"a":1}`},
		{name: "an object on several lines", body: "\n{\n  \"a\": 1\n}\n", status: 202, answer: `"taken":1`, taken: "{\n  \"a\": 1\n}"},
		{name: "an array", body: ` [{"a":1}, {"a":[2]}]`, status: 202, answer: `"taken":2`, taken: `{"a":1}/{"a":[2]}`},
		{name: "an empty array", body: `[]`, status: 202, answer: `{"taken":0}`},
		{name: "lines", body: "{\"a\":1}\r\n\n  {\"a\":2}\n{\"a\":3}", status: 202, answer: `"taken":3`, taken: `{"a":1}/{"a":2}/{"a":3}`},
		{name: "packed", body: pack(t, "{\"a\":1}\n{\"a\":2}\n"), head: "Content-Encoding: gzip", status: 202, answer: `"taken":2`, taken: `{"a":1}/{"a":2}`},
		{name: "an element that is none", body: `[{"a":1}, 7, null, {"a":2}]`, status: 400, answer: `"refused":[{"element":2,"why":"it is not a JSON object"},{"element":3,`, taken: `{"a":1}/{"a":2}`},
		{name: "a line that is none", body: "{\"a\":1}\n{\"a\":\n{\"a\":2}\n", status: 400, answer: `{"taken":2,"first":0,"refused":[{"line":2,"why":"it is not JSON: unexpected end of JSON input"}]}`, taken: `{"a":1}/{"a":2}`},
		{name: "no UTF-8", body: "{\"a\":\"\xff\"}", status: 400, answer: `"line":1,"why":"it is not UTF-8"`},
		{name: "many that are none", body: strings.Repeat("x\n", 30), status: 400, answer: `"more_refused":10`},
		{name: "an array that does not end", body: `[{"a":1},`, status: 400, answer: "the array is not JSON"},
		{name: "nothing", body: " \n", status: 400, answer: "the body is empty"},
		{name: "too much", body: `{"a":"` + strings.Repeat("x", 1000) + `"}`, status: 413, answer: "a post may have 1000 bytes, unpacked"},
		{name: "too much, packed", body: pack(t, `{"a":"`+strings.Repeat("x", 100_000)+`"}`), head: "Content-Encoding: gzip", status: 413, answer: "a post may have 1000 bytes"},
		{name: "not packed", body: "{}", head: "Content-Encoding: gzip", status: 400, answer: "the body cannot be read"},
		{name: "another packing", body: "{}", head: "Content-Encoding: br", status: 415, answer: "pack with gzip"},
		{name: "no type", body: "{}", head: "Content-Type: /", status: 415, answer: "is not a media type"},
		{name: "a long key", body: "{}", head: "Idempotency-Key: " + strings.Repeat("k", 2000), status: 400, answer: "the Idempotency-Key is too long"},
		{name: "text", body: "one\n\n two \r\n[1\n", text: true, status: 202, answer: `"taken":3`, taken: "one/ two /[1"},
	} {
		j, err := journal.Open(t.TempDir(), journal.Options{})
		if err != nil {
			t.Fatal(err)
		}
		r := httptest.NewRequest(http.MethodPost, "/", strings.NewReader(c.body))
		if name, value, ok := strings.Cut(c.head, ": "); ok {
			r.Header.Set(name, value)
		}
		w := httptest.NewRecorder()
		newTaker(j, !c.text, &source{Body: 1000}).ServeHTTP(w, r)
		if got := strings.Join(taken(t, j), "/"); w.Code != c.status || !strings.Contains(w.Body.String(), c.answer) || got != c.taken || !json.Valid(w.Body.Bytes()) {
			t.Errorf("%s: %d %s and %q; want %d %s and %q", c.name, w.Code, w.Body, got, c.status, c.answer, c.taken)
		}
		if w.Code >= 300 && w.Code != 400 && w.Header().Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: the answer is %s", c.name, w.Header())
		}
	}
}

// TestTakeOnce: a post that comes again with its key is taken once; a journal that is full, and too many posts at a time, ask to wait.
func TestTakeOnce(t *testing.T) {
	j, err := journal.Open(t.TempDir(), journal.Options{Limit: 200})
	if err != nil {
		t.Fatal(err)
	}
	k := newTaker(j, true, &source{Body: 1000})
	post := func(body io.Reader, key string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(http.MethodPost, "/", body)
		r.Header.Set("Idempotency-Key", key)
		w := httptest.NewRecorder()
		k.ServeHTTP(w, r)
		return w
	}
	for n, want := range []string{`{"taken":1,"first":0}`, `{"taken":1,"first":0,"again":true}`} {
		if w := post(strings.NewReader(`{"a":1}`), "a"); w.Code != 202 || strings.TrimSpace(w.Body.String()) != want {
			t.Errorf("post %d: %d %s", n, w.Code, w.Body)
		}
	}
	last := 202
	for n := 0; last == 202 && n < 20; n++ {
		w := post(strings.NewReader(fmt.Sprintf(`{"a":%d}`, n)), fmt.Sprint(n))
		if last = w.Code; last != 202 && (last != 429 || w.Header().Get("Retry-After") != "5") {
			t.Errorf("a full journal gives %d %s %s", w.Code, w.Header(), w.Body)
		}
	}
	if last != 429 || len(taken(t, j)) < 2 {
		t.Errorf("a journal of 200 bytes took %d events; the last answer was %d", len(taken(t, j)), last)
	}
	slow, give := io.Pipe()
	done := make(chan int)
	for range atOnce {
		go func() { done <- post(slow, "").Code }()
	}
	for len(k.busy) < atOnce {
	}
	if w := post(strings.NewReader(`{}`), ""); w.Code != 429 || w.Header().Get("Retry-After") != "1" {
		t.Errorf("with %d under way the next gets %d %s", atOnce, w.Code, w.Body)
	}
	if err := give.Close(); err != nil {
		t.Fatal(err)
	}
	for range atOnce {
		<-done
	}
}

// TestGuarded: pages of other sites in a browser of this machine cannot post, by whatever name they call it.
func TestGuarded(t *testing.T) {
	j, err := journal.Open(t.TempDir(), journal.Options{})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		host, head string
		status     int
	}{
		{"127.0.0.1:8400", "", 202},
		{"[::1]:8400", "", 202},
		{"localhost:8400", "Origin: http://localhost:8400", 202},
		{"127.0.0.1:8400", "Origin: https://evil.example", 403},
		{"127.0.0.1:8400", "Sec-Fetch-Site: cross-site", 403},
		{"rebound.example:8400", "", 421},
		{"rebound.example", "Origin: http://rebound.example", 421},
		{"10.0.0.7:8400", "", 421},
	} {
		r := httptest.NewRequest(http.MethodPost, "/", strings.NewReader("{}"))
		if r.Host = c.host; c.head != "" {
			name, value, _ := strings.Cut(c.head, ": ")
			r.Header.Set(name, value)
		}
		w := httptest.NewRecorder()
		h, err := guarded(newTaker(j, true, &source{Body: 1000}))
		if err != nil {
			t.Fatal(err)
		}
		h.ServeHTTP(w, r)
		if w.Code != c.status || !json.Valid(w.Body.Bytes()) {
			t.Errorf("%s, %s: %d %s", c.host, c.head, w.Code, w.Body)
		}
	}
	if n := len(taken(t, j)); n != 3 {
		t.Errorf("%d were taken", n)
	}
}

// FuzzSplit: no body makes it panic, and each event that it takes is one JSON object.
func FuzzSplit(f *testing.F) {
	for _, s := range []string{`{"a":1}`, `[{"a":1},2]`, "{}\n{\n}", "[[]]", "\xff"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		k := newTaker(nil, true, &source{Body: 1 << 20})
		events, out, err := k.split(body)
		for _, e := range events {
			var m map[string]json.RawMessage
			if json.Unmarshal(e, &m) != nil || m == nil {
				t.Fatalf("%q is taken of %q", e, body)
			}
		}
		if err != nil && (len(events) > 0 || len(out.Refused) > 0) {
			t.Fatalf("%q: %v, and %d events", body, err, len(events))
		}
	})
}
