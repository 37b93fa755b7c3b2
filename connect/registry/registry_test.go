package registry

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/twmb/franz-go/pkg/sr"

	"undertide/broker"
	"undertide/connect"
	"undertide/leak"
)

func TestMain(m *testing.M) { leak.Main(m) }

const (
	first  = `{"type":"record","name":"w","fields":[{"name":"a","type":"string"}]}`
	second = `{"type":"record","name":"w","fields":[{"name":"a","type":"string"},{"name":"b","type":"int","default":1}]}`
	wrong  = `{"type":"record","name":"w","fields":[{"name":"a","type":"string"},{"name":"c","type":"int"}]}`
)

func client(t *testing.T, address string) *Client {
	t.Helper()
	c, err := New(address, "", "", nil)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// TestStandIn: what is registered is found by number, version and name, and checked; it is there again after a restart.
func TestStandIn(t *testing.T) {
	dir, ctx := t.TempDir(), context.Background()
	r, err := broker.StartRegistry("127.0.0.1:0", dir)
	if err != nil {
		t.Fatal(err)
	}
	api := client(t, "http://"+r.Addr).API()
	one, err := api.CreateSchema(ctx, "w-value", sr.Schema{Schema: first})
	if err != nil {
		t.Fatal(err)
	}
	two, err := api.CreateSchema(ctx, "w-value", sr.Schema{Schema: second})
	if err != nil || two.ID == one.ID || two.Version != 2 {
		t.Fatalf("%+v, %v", two, err)
	}
	if again, err := api.CreateSchema(ctx, "w-value", sr.Schema{Schema: first}); err != nil || again.ID != one.ID || again.Version != 1 {
		t.Errorf("registered again: %+v, %v", again, err)
	}
	if _, err := api.CreateSchema(ctx, "w-value", sr.Schema{Schema: wrong}); err == nil || !strings.Contains(err.Error(), "incompatible") {
		t.Errorf("a schema that does not read the last one: %v", err)
	}
	if fits, err := api.CheckCompatibility(ctx, "w-value", -1, sr.Schema{Schema: wrong}); err != nil || fits.Is {
		t.Errorf("it fits: %+v, %v", fits, err)
	}
	if _, err := api.CreateSchema(ctx, "w-value", sr.Schema{Schema: "{"}); err == nil {
		t.Error("no schema is taken")
	}
	r.Close()
	if r, err = broker.StartRegistry("127.0.0.1:0", dir); err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	c := client(t, "http://"+r.Addr)
	if id, text, err := c.Newest(ctx, "w-value"); err != nil || id != two.ID || text != second {
		t.Errorf("the newest is %d %s, %v", id, text, err)
	}
	if text, err := c.Schema(ctx, one.ID); err != nil || text != first {
		t.Errorf("schema %d is %s, %v", one.ID, text, err)
	}
	if _, err := c.Schema(ctx, 77); !errors.Is(err, connect.ErrNoSchema) {
		t.Errorf("a schema that is not there: %v", err)
	}
	if _, _, err := c.Newest(ctx, "other"); !errors.Is(err, connect.ErrNoSchema) {
		t.Errorf("a subject that is not there: %v", err)
	}
	if _, err := broker.StartRegistry("0.0.0.0:0", ""); err == nil {
		t.Error("it listens for other machines")
	}
}

// TestAskedOnce: many who want a schema ask once; while the registry fails each is told so, and it is asked again.
func TestAskedOnce(t *testing.T) {
	var asked atomic.Int64
	var status atomic.Int64
	status.Store(http.StatusServiceUnavailable)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		w.WriteHeader(int(status.Load()))
		_, _ = w.Write([]byte(`{"schema":"\"string\"","error_code":1,"message":"m"}`))
	}))
	defer s.Close()
	c := client(t, s.URL)
	for range 2 {
		if _, err := c.Schema(context.Background(), 1); !errors.Is(err, connect.ErrUnreachable) {
			t.Fatalf("a registry that fails: %v", err)
		}
	}
	before := asked.Load()
	if before < 2 {
		t.Errorf("it was asked %d times", before)
	}
	status.Store(http.StatusOK)
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			if text, err := c.Schema(context.Background(), 1); err != nil || text != `"string"` {
				t.Errorf("%s, %v", text, err)
			}
		})
	}
	all.Wait()
	if n := asked.Load() - before; n != 1 {
		t.Errorf("twenty asked %d times", n)
	}
	status.Store(http.StatusUnauthorized)
	if _, err := c.Schema(context.Background(), 2); !errors.Is(err, connect.ErrDenied) {
		t.Errorf("who may not: %v", err)
	}
	s.Close()
	if _, err := c.Schema(context.Background(), 3); !errors.Is(err, connect.ErrUnreachable) || !strings.Contains(err.Error(), "check that it runs") {
		t.Errorf("nobody there: %v", err)
	}
	for _, address := range []string{"", "x", "ftp://a", "http://"} {
		if _, err := New(address, "", "", nil); err == nil {
			t.Errorf("%q is an address", address)
		}
	}
}

// FuzzAnswers: whatever a registry answers is a schema or an error.
func FuzzAnswers(f *testing.F) {
	f.Add([]byte(`{"schema":"\"string\""}`), 200)
	f.Add([]byte(`{"error_code":40403,"message":"no"}`), 404)
	var body atomic.Pointer[[]byte]
	var status atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(int(status.Load()))
		_, _ = w.Write(*body.Load())
	}))
	f.Cleanup(s.Close)
	f.Fuzz(func(t *testing.T, b []byte, code int) {
		if code < 200 || code > 599 || code == 204 || code == 304 {
			return
		}
		body.Store(&b)
		status.Store(int64(code))
		text, err := client(t, s.URL).Schema(context.Background(), 1)
		if err == nil && code >= 300 {
			t.Errorf("%d gives the schema %q", code, text)
		}
	})
}
