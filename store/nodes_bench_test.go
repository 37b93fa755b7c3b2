package store

import (
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"undertide/lease"
)

// BenchmarkNodes is how many beats, commits and records by a lease a database takes a second from ten sessions, with so many nodes and jobs: where the database
// becomes the limit (docs/speed.md, "Nodes").
func BenchmarkNodes(b *testing.B) {
	for _, size := range []struct{ nodes, jobs int }{{3, 30}, {30, 300}, {100, 1000}} {
		b.Run(fmt.Sprintf("%dnodes%djobs", size.nodes, size.jobs), func(b *testing.B) {
			s := openShared(b, server(b).URL(), "")
			var nodes []lease.Node
			for n := range size.nodes {
				nodes = append(nodes, join(b, s, nodeOf(fmt.Sprintf("n%d", n), "1")))
			}
			var leases []lease.Lease
			for n := range size.jobs {
				j, _, _, err := s.SaveVersion(ctx, Job{Name: fmt.Sprintf("job%d", n)}, "doc", "")
				if err != nil {
					b.Fatal(err)
				}
				l, err := s.CreateLeasedRun(ctx, &Run{JobID: j.ID, Version: 1, Wanted: true, StartedAt: time.Now(), Generation: 1}, nodes[n%size.nodes], lease.Lease{})
				if err != nil {
					b.Fatal(err)
				}
				leases = append(leases, l)
			}
			each := func(name string, do func(n int64) error) {
				b.Run(name, func(b *testing.B) {
					var n atomic.Int64
					b.SetParallelism(5)
					b.RunParallel(func(p *testing.PB) {
						for p.Next() {
							if err := do(n.Add(1)); err != nil {
								b.Error(err)
								return
							}
						}
					})
					b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "1/s")
				})
			}
			each("beat", func(n int64) error {
				_, err := s.Beat(ctx, nodes[n%int64(len(nodes))])
				return err
			})
			each("commit", func(n int64) error {
				l := leases[n%int64(len(leases))]
				l.Epoch, l.Generation = n, 1
				err := s.Commit(ctx, l)
				if err == lease.ErrLost { // a later one was faster
					return nil
				}
				return err
			})
		})
	}
}
