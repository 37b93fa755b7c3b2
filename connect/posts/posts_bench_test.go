package posts

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"

	"undertide/connect/journal"
)

// BenchmarkPosts posts a hundred events each over eight connections; "alone" answers without taking them, as what the posters and HTTP
// cost.
func BenchmarkPosts(b *testing.B) {
	var body bytes.Buffer
	for i := range 100 {
		fmt.Fprintf(&body, "{\"gauge\":\"G%d\",\"level_m\":%d.25,\"battery_v\":12.1,\"seq\":%d,\"read_at\":1767225600000}\n", i%7, i%5, i)
	}
	for _, taken := range []bool{true, false} {
		name := "taken"
		if !taken {
			name = "alone"
		}
		b.Run(name, func(b *testing.B) {
			j, err := journal.Open(b.TempDir(), journal.Options{Limit: 1 << 40})
			if err != nil {
				b.Fatal(err)
			}
			h, err := guarded(newTaker(j, true, &source{}))
			if err != nil {
				b.Fatal(err)
			}
			if !taken {
				h = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					_, _ = io.Copy(io.Discard, r.Body)
					w.WriteHeader(http.StatusAccepted)
				})
			}
			s := httptest.NewServer(h)
			defer s.Close()
			client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
			posts := make(chan struct{})
			var wait sync.WaitGroup
			for range 8 {
				wait.Go(func() {
					for range posts {
						r, err := client.Post(s.URL, "application/x-ndjson", bytes.NewReader(body.Bytes()))
						if err != nil {
							b.Error(err)
							continue
						}
						_, _ = io.Copy(io.Discard, r.Body)
						_ = r.Body.Close()
						if r.StatusCode != http.StatusAccepted {
							b.Error(r.Status)
						}
					}
				})
			}
			n := 0
			for b.Loop() {
				posts <- struct{}{}
				n++
			}
			close(posts)
			wait.Wait()
			client.CloseIdleConnections()
			b.ReportMetric(float64(100*n)/b.Elapsed().Seconds(), "events/s")
		})
	}
}
