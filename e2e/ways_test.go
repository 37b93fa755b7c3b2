package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"undertide/connect/mqtt/peer"
	"undertide/pace"
)

// numberedJob reads events that have a number; source is the rest of the source.
const numberedJob = `undertide: 1
job: ways
settings: {checkpoint: {every: 200ms}}
connections: {%s}
sources:
  events:
    %s
    fields: {n: int}
steps:
  kept: {from: events, %s}
sinks:
  out: {from: kept, via: file, with: {path: out/}}
`

// TestMessagesKilled: a broker's own client publishes while the run is killed, and the broker started anew: each message comes out once, by both
// versions of MQTT.
func TestMessagesKilled(t *testing.T) {
	t.Parallel()
	for _, version := range []string{"5", "3.1.1"} {
		dir := open(t)
		b, err := peer.Start(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(b.Stop)
		write(t, dir, "ways.yaml", fmt.Sprintf(numberedJob, fmt.Sprintf("yard: {via: mqtt, address: %q, version: %q}", b.Address, version), "via: mqtt\n    with: {connection: yard, topics: [\"yard/+/n\"]}", "where: n >= 0"))
		k := kills(t, dir, "ways.yaml")
		// What is published before the session is there is nobody's.
		eventually(t, 20*time.Second, "the run has subscribed", func() bool {
			return strings.Contains(read(t, b.Log()), "yard/+/n")
		})
		var stop atomic.Bool
		var all sync.WaitGroup
		var next atomic.Int64
		for who := range 3 {
			all.Go(func() {
				for !stop.Load() {
					var texts []string
					first := next.Add(50) - 50
					for n := range int64(50) {
						texts = append(texts, fmt.Sprintf(`{"n":%d}`, first+n))
					}
					if err := b.Publish(fmt.Sprintf("yard/G%d/n", who), texts...); err != nil {
						t.Error(err)
						return
					}
					time.Sleep(10 * time.Millisecond)
				}
			})
		}
		k.again(pace.Of(20, 4))
		stop.Store(true)
		all.Wait()
		b.Stop()
		if err := b.Again(); err != nil {
			t.Fatal(err)
		}
		k.once(next.Load())
	}
}

// TestTablesKilled: sessions insert while the run is killed, and the server once: each row comes out once, by a column that grows and by changes.
func TestTablesKilled(t *testing.T) {
	t.Parallel()
	for name, source := range map[string]string{"growing": "follow: n, every: 50ms", "changes": "changes: true"} {
		t.Run(name, func(t *testing.T) {
			dir := open(t)
			server, _ := table(t)
			address, err := server.Guest(context.Background(), "yard")
			if err != nil {
				t.Fatal(err)
			}
			u, err := url.Parse(address)
			if err != nil {
				t.Fatal(err)
			}
			password, _ := u.User.Password()
			at := "postgres://yard@" + u.Host + "/yard"
			write(t, dir, "ways.yaml", fmt.Sprintf(numberedJob, fmt.Sprintf("yard: {via: postgres, url: %q, password: \"${env.YARD_PASSWORD}\"}", at), "via: postgres\n    with: {connection: yard, table: t, "+source+"}", "where: n >= 0"))
			conn, err := pgx.Connect(context.Background(), address)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := conn.Exec(context.Background(), "create table t (n bigint generated always as identity (minvalue 0 start 0) primary key); insert into t select from generate_series(1, 100)"); err != nil {
				t.Fatal(err)
			}
			conn.Close(context.Background())
			k := kills(t, dir, "ways.yaml", "YARD_PASSWORD="+password)
			var stop atomic.Bool
			var all sync.WaitGroup
			for range 4 {
				all.Go(func() {
					conn, err := pgx.Connect(context.Background(), address)
					if err != nil {
						t.Error(err)
						return
					}
					defer conn.Close(context.Background())
					for !stop.Load() {
						if _, err := conn.Exec(context.Background(), fmt.Sprintf("begin; insert into t default values; select pg_sleep(%f); insert into t default values; commit", rand.Float64()/50)); err != nil {
							t.Error(err)
							return
						}
					}
				})
			}
			k.again(pace.Of(20, 5))
			stop.Store(true)
			all.Wait()
			if conn, err = pgx.Connect(context.Background(), address); err != nil {
				t.Fatal(err)
			}
			defer conn.Close(context.Background())
			var rows int64
			if err := conn.QueryRow(context.Background(), "select count(*) from t where n < (select count(*) from t)").Scan(&rows); err != nil {
				t.Fatal(err)
			}
			k.once(rows)
		})
	}
}

// TestSocketsKilled: lines come over TCP while the run is killed. Nobody is told what was read, so that lines under way are lost with a kill: one gap each at
// most. What was written down comes out once.
func TestSocketsKilled(t *testing.T) {
	t.Parallel()
	dir := open(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var next atomic.Int64
	var stop atomic.Bool
	var all sync.WaitGroup
	all.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return // it is closed
			}
			for err == nil && !stop.Load() {
				_, err = fmt.Fprintf(c, "{\"n\":%d}\n", next.Add(1)-1)
				time.Sleep(time.Millisecond)
			}
			c.Close()
		}
	})
	write(t, dir, "ways.yaml", fmt.Sprintf(numberedJob, "", fmt.Sprintf("via: socket\n    with: {address: %q}", l.Addr()), "where: n >= 0"))
	k := kills(t, dir, "ways.yaml")
	k.again(pace.Of(20, 5))
	last := next.Load() + 200
	eventually(t, 30*time.Second, "lines of the last run are out", func() bool {
		return strings.Contains(strings.Join(k.rows(), "\n"), fmt.Sprintf(`{"n":%d}`, last))
	})
	stop.Store(true)
	l.Close()
	all.Wait()
	seen := k.seen()
	gaps := 0
	for n := range last {
		if seen[n] > 1 {
			t.Fatalf("line %d came out %d times", n, seen[n])
		}
		if seen[n] == 0 && n > 0 && seen[n-1] > 0 {
			gaps++
		}
	}
	t.Logf("%d kills, %d gaps, %d of %d lines", k.kills, gaps, len(seen), last)
	if gaps > k.kills || int64(len(seen)) < last/2 {
		t.Errorf("%d kills made %d gaps, and %d of %d lines came out", k.kills, gaps, len(seen), last)
	}
}
