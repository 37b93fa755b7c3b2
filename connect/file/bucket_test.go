package file

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/formats/ndjson"
	"undertide/connect/formats/parquet"
	"undertide/core/engine"
	"undertide/core/row"
)

// shelf is a store for tests, over HTTP, that can be made to fail.
type shelf struct {
	url  string
	kept gofakes3.Backend

	mu sync.Mutex // guards spoil
	// spoil says what becomes of a request: nothing, it is lost, its answer is lost, it breaks within, or a status.
	spoil func(r *http.Request) string
}

func newShelf(t *testing.T) *shelf {
	t.Helper()
	s := &shelf{kept: s3mem.New()}
	inner := gofakes3.New(s.kept, gofakes3.WithLogger(gofakes3.DiscardLog())).Server()
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		how := ""
		if s.spoil != nil {
			how = s.spoil(r)
		}
		s.mu.Unlock()
		switch how {
		case "":
			inner.ServeHTTP(w, r)
		case "lost":
			panic(http.ErrAbortHandler)
		case "answer lost":
			inner.ServeHTTP(httptest.NewRecorder(), r)
			panic(http.ErrAbortHandler)
		case "broken":
			rec := httptest.NewRecorder()
			inner.ServeHTTP(rec, r)
			for k, v := range rec.Header() {
				w.Header()[k] = v
			}
			w.WriteHeader(rec.Code)
			_, _ = w.Write(rec.Body.Bytes()[:rec.Body.Len()/2])
			_ = http.NewResponseController(w).Flush()
			panic(http.ErrAbortHandler)
		case "denied":
			w.WriteHeader(http.StatusForbidden)
			fmt.Fprint(w, `<?xml version="1.0"?><Error><Code>AccessDenied</Code><Message>no right</Message></Error>`)
		case "away":
			w.WriteHeader(http.StatusServiceUnavailable)
			fmt.Fprint(w, `<?xml version="1.0"?><Error><Code>SlowDown</Code><Message>later</Message></Error>`)
		}
	}))
	server.Config.ErrorLog = log.New(io.Discard, "", 0) // of requests that are spoiled
	server.Start()
	t.Cleanup(server.Close)
	s.url = server.URL
	if err := s.kept.CreateBucket("lake"); err != nil {
		t.Fatal(err)
	}
	return s
}

func (s *shelf) spoils(f func(r *http.Request) string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.spoil = f
}

func (s *shelf) put(t *testing.T, key string, text []byte) {
	t.Helper()
	if _, err := s.kept.PutObject("lake", key, map[string]string{"Last-Modified": time.Now().UTC().Format(http.TimeFormat)}, bytes.NewReader(text), int64(len(text)), nil); err != nil {
		t.Fatal(err)
	}
}

// objects gives what the store has, by key.
func (s *shelf) objects(t *testing.T) map[string]string {
	t.Helper()
	list, err := s.kept.ListBucket("lake", nil, gofakes3.ListBucketPage{})
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, o := range list.Contents {
		in, err := s.kept.GetObject("lake", o.Key, nil)
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(in.Contents)
		if err != nil {
			t.Fatal(err)
		}
		out[o.Key] = string(text)
	}
	return out
}

func (s *shelf) connection() *connect.Connection {
	return &connect.Connection{Name: "lake", Kind: Kind, Link: &Link{URL: s.url, User: "me", Password: "secret"}}
}

// any spoils requests by chance, each so often.
func anySpoiled(r *rand.Rand, share int, how ...string) func(*http.Request) string {
	return func(*http.Request) string {
		if r.IntN(share) > 0 {
			return ""
		}
		return how[r.IntN(len(how))]
	}
}

// TestObjects: objects are read as files are, by a pattern, packed or by columns, from each position on, while connections break; one that is replaced
// while it is read ends the run.
func TestObjects(t *testing.T) {
	s := newShelf(t)
	var lines bytes.Buffer
	for n := range 9000 {
		fmt.Fprintf(&lines, "{\"n\":%d}\n", n)
	}
	s.put(t, "day/a.ndjson", lines.Bytes())
	s.put(t, "day/b.ndjson.gz", packedAs(t, ".gz", lines.String()))
	s.put(t, "day/c.ndjson.txt", []byte("none of it"))
	s.put(t, "day/deep/d.ndjson", lines.Bytes())
	var columns bytes.Buffer
	containers[parquet.Format](t, &columns, 9000)
	s.put(t, "columns.parquet", columns.Bytes())
	s.spoils(anySpoiled(rand.New(rand.NewPCG(1, 2)), 4, "lost", "broken", "away"))
	for pattern, c := range map[string]struct {
		format *connect.Format
		parts  int
	}{"s3://lake/day/?.ndjson*": {ndjson.Format, 2}, "s3://lake/day/deep/d.ndjson": {ndjson.Format, 1}, "s3://lake/*.parquet": {parquet.Format, 1}} {
		src := &source{pattern: pattern, Connection: s.connection()}
		o := connect.Opening{Format: c.format, Fields: codec.Fields{{Name: "n", Kind: row.Int}}}
		var opened connect.Opened
		for try := 0; ; try++ { // a start that the store does not answer is one that fails
			var err error
			if opened, err = src.Open(context.Background(), o); err == nil {
				break
			} else if !errors.Is(err, connect.ErrUnreachable) || try > 50 {
				t.Fatal(err)
			}
		}
		if len(opened.Partitions) < c.parts {
			t.Fatalf("%s: %d objects", pattern, len(opened.Partitions))
		}
		for _, p := range opened.Partitions[:c.parts] {
			all, positions, err := drained(p, nil)
			if err != nil || len(all) != 9000 {
				t.Fatalf("%s: %d events, %v", p.Name(), len(all), err)
			}
			again, err := expandPartition(src, p.Name(), o)
			must(t, err)
			rest, _, err := drained(again, positions[len(positions)/2])
			if from := len(all) - len(rest); err != nil || !slices.Equal(rest, all[from:]) {
				t.Fatalf("%s: from the middle on come %d, %v", p.Name(), len(rest), err)
			}
		}
	}
	s.spoils(nil)
	p, err := expandPartition(&source{pattern: "s3://lake/day/a.ndjson", Connection: s.connection()}, "s3://lake/day/a.ndjson", connect.Opening{Format: ndjson.Format})
	must(t, err)
	must(t, p.Open(context.Background(), nil))
	s.put(t, "day/a.ndjson", []byte("{\"n\":0}\n"))
	var c engine.Chunk
	for err = nil; err == nil && !c.Last; {
		c.Reset()
		err = p.Read(context.Background(), &c)
	}
	if err == nil || !strings.Contains(err.Error(), "was replaced while it was read") {
		t.Errorf("an object that was replaced: %v", err)
	}
	must(t, p.Close())
}

// expandPartition makes the partition of one path.
func expandPartition(s *source, path string, o connect.Opening) (engine.Partition, error) {
	tree, err := s.tree()
	if err != nil {
		return nil, err
	}
	return s.partition(context.Background(), tree, path, o)
}

// inBucket opens a sink of objects whose clock goes on by ten minutes each time that it is asked.
func inBucket(t *testing.T, s *shelf, dir string, rolled Rolled, o Output) func() recoverable {
	at := time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC)
	return func() recoverable {
		out, err := (&sink{Path: "s3://lake/rows/", Connection: s.connection()}).openBucket("s3://lake/rows/", connect.Opening{Name: "rows", Aside: dir}, o)
		must(t, err)
		b := out.(*Bucket)
		b.rolled = NewFolder("", "", rolled, o).rolled
		b.now = func() time.Time { at = at.Add(10 * time.Minute); return at }
		return b
	}
}

// TestBucketFolders: as TestFolders, into a store that loses requests and answers.
func TestBucketFolders(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 10))
	for range 2 {
		s, dir := newShelf(t), t.TempDir()
		s.spoils(anySpoiled(rand.New(rand.NewPCG(3, 4)), 60, "lost", "answer lost", "away"))
		through(t, r, func(rolled Rolled, o Output) func() recoverable { return inBucket(t, s, dir, rolled, o) }, func() map[string]string {
			got := map[string]string{}
			all := s.objects(t)
			keys := make([]string, 0, len(all))
			for k := range all {
				keys = append(keys, k)
			}
			inOrder(keys)
			for _, k := range keys {
				if strings.HasSuffix(k, ".ndjson") {
					got[strings.TrimPrefix(path.Dir(k), "rows/")] += numbers(all[k])
				}
			}
			if left := under(t, dir, ".part"); len(left) > 0 {
				t.Fatalf("unfinished files are left: %v", left)
			}
			return got
		})
	}
}

// TestBucketFenced: a start takes the place over; a run that lives on replaces nothing and ends; what it had sent and not marked goes.
func TestBucketFenced(t *testing.T) {
	s, ctx := newShelf(t), context.Background()
	open := func(dir string) *Bucket { return inBucket(t, s, dir, Rolled{}, asCSV)().(*Bucket) }
	first := open(filepath.Join(t.TempDir(), "a"))
	_, err := first.Delivered(ctx)
	must(t, err)
	must(t, first.Open(nil, 1))
	must(t, first.Write([]byte("a\n"), 1))
	one, err := shipped(first, 1)
	must(t, err)
	must(t, first.Deliver(ctx, one))
	must(t, first.Write([]byte("b\n"), 1))
	two, err := shipped(first, 2)
	must(t, err)

	s.put(t, "rows/rows-00000002-9.csv", []byte("k\nsent and not marked\n"))
	second := open(filepath.Join(t.TempDir(), "b"))
	done, err := second.Delivered(ctx)
	if err != nil || done != 1 {
		t.Fatalf("the second run is told of epoch %d, %v", done, err)
	}
	must(t, second.Open(nil, 2))
	must(t, second.Write([]byte("c\n"), 1))
	other, err := shipped(second, 2)
	must(t, err)
	must(t, second.Deliver(ctx, other))
	if err := first.Deliver(ctx, two); !errors.Is(err, engine.ErrFenced) {
		t.Errorf("the run that was taken over delivers: %v", err)
	}
	must(t, second.Finish())
	must(t, first.Abort())
	got := s.objects(t)
	if len(got) != 3 || got["rows/rows-00000001-1.csv"] != "k\na\n" || got["rows/rows-00000002-1.csv"] != "k\nc\n" || !strings.Contains(got["rows/rows.delivered"], `"epoch":2`) {
		t.Errorf("the store has %q", got)
	}
}

// TestStoreAway: a store that is away is waited for and said; one that refuses ends the delivery; a test says step by step what is wrong.
func TestStoreAway(t *testing.T) {
	s, ctx := newShelf(t), context.Background()
	b := inBucket(t, s, t.TempDir(), Rolled{}, asCSV)().(*Bucket)
	_, err := b.Delivered(ctx)
	must(t, err)
	must(t, b.Open(nil, 1))
	must(t, b.Write([]byte("a\n"), 1))
	one, err := shipped(b, 1)
	must(t, err)
	s.spoils(func(*http.Request) string { return "away" })
	delivered := make(chan error, 1)
	go func() { delivered <- b.Deliver(ctx, one) }()
	for until := time.Now().Add(10 * time.Second); !strings.Contains(b.Trouble(), "has not taken objects for") && time.Now().Before(until); {
		time.Sleep(20 * time.Millisecond)
	}
	if said := b.Trouble(); !strings.Contains(said, "has not taken objects for") || b.Retries() == 0 {
		t.Errorf("while the store is away: %q, %d retries", said, b.Retries())
	}
	s.spoils(nil)
	must(t, <-delivered)
	if b.Trouble() != "" {
		t.Errorf("afterwards: %q", b.Trouble())
	}
	s.spoils(func(*http.Request) string { return "denied" })
	must(t, b.Write([]byte("b\n"), 1))
	two, err := shipped(b, 2)
	must(t, err)
	if err := b.Deliver(ctx, two); !errors.Is(err, connect.ErrDenied) || !strings.Contains(err.Error(), "check user, password and rights") {
		t.Errorf("a store that refuses: %v", err)
	}
	must(t, b.Abort())

	l, err := s.connection().Look()
	must(t, err)
	defer l.Close()
	states := func(stream string) (out string) {
		for _, x := range l.Try(ctx, stream) {
			out += x.Name + " " + x.State + "; "
		}
		return out
	}
	const yes = "reached yes; signed in yes; bucket seen yes; may read yes; may write yes; "
	for _, c := range []struct{ stream, how, want string }{
		{"s3://lake/rows/", "", yes},
		{"s3://lake/none/{gate}/", "", yes},
		{"", "", "reached yes; signed in yes; bucket seen not asked; may read not asked; may write not asked; "},
		{"s3://sea/rows/", "", "reached yes; signed in yes; bucket seen no; may read not asked; may write not asked; "},
		{"s3://lake/rows/", "denied", "reached yes; signed in no; bucket seen not asked; may read not asked; may write not asked; "},
		{"s3://lake/rows/", "away", "reached no; signed in not asked; bucket seen not asked; may read not asked; may write not asked; "},
	} {
		s.spoils(func(*http.Request) string { return c.how })
		if got := states(c.stream); got != c.want {
			t.Errorf("%q, %s: %s", c.stream, c.how, got)
		}
	}
}
