package store

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"gorm.io/gorm"

	"undertide/lease"
)

// openShared opens the store of a node.
func openShared(t testing.TB, url, journal string) *Store {
	t.Helper()
	s, err := OpenShared(ctx, url, journal, quiet)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

func nodeOf(name, boot string) lease.Node {
	return lease.Node{Name: name, Boot: boot, Address: "http://127.0.0.1:1", Digest: []byte(name + boot), Version: "1", Cores: 2, StartedAt: time.Now().UTC()}
}

func join(t testing.TB, s *Store, n lease.Node) lease.Node {
	t.Helper()
	if err := s.Join(ctx, n); err != nil {
		t.Fatal(err)
	}
	return n
}

// age makes the database believe that a node was heard so long ago.
func age(t *testing.T, s *Store, name string, by time.Duration) {
	t.Helper()
	if _, err := s.sql.ExecContext(ctx, "UPDATE nodes SET heard_at = clock_timestamp() - make_interval(secs => $1) WHERE name = $2", by.Seconds(), name); err != nil {
		t.Fatal(err)
	}
}

// TestNodesShareOrNot: a database belongs to one service, or to nodes.
func TestNodesShareOrNot(t *testing.T) {
	pg := server(t)
	a, b := openShared(t, pg.URL(), ""), openShared(t, pg.URL(), "")
	if _, err := Open(ctx, pg.URL(), "", quiet); !errors.Is(err, ErrTaken) {
		t.Errorf("a service beside nodes: %v", err)
	}
	a.Close()
	b.Close()
	alone := openStore(t, pg.URL())
	if _, err := OpenShared(ctx, pg.URL(), "", quiet); !errors.Is(err, ErrAlone) {
		t.Errorf("a node beside a service: %v", err)
	}
	alone.Close()
	// A newer program that changes tables waits until the nodes of the older one have ended.
	older := openShared(t, pg.URL(), "")
	if _, err := older.sql.ExecContext(ctx, "DELETE FROM goose_db_version WHERE version_id = (SELECT max(version_id) FROM goose_db_version)"); err != nil {
		t.Fatal(err)
	}
	if _, err := OpenShared(ctx, pg.URL(), "", quiet); err == nil || !strings.Contains(err.Error(), "other nodes of the older program are at work; stop them all") {
		t.Errorf("a newer node beside an older one: %v", err)
	}
}

// TestLeases: a lease is taken by one, from whoever is not heard any more, and counts with its number alone.
func TestLeases(t *testing.T) {
	pg := server(t)
	s := openShared(t, pg.URL(), "")
	j, _, _, err := s.SaveVersion(ctx, Job{Name: "rates"}, "doc", "")
	if err != nil {
		t.Fatal(err)
	}
	a, b := join(t, s, nodeOf("a", "1")), join(t, s, nodeOf("b", "1"))
	run := Run{JobID: j.ID, Version: 1, Status: "running", Wanted: true, StartedAt: time.Now(), Generation: 1}
	first, err := s.CreateLeasedRun(ctx, &run, a, lease.Lease{})
	if err != nil || first.Number != 1 || first.Node != "a" || first.Epoch != 0 || first.Generation != 1 {
		t.Fatalf("the first lease is %+v, %v", first, err)
	}
	again := Run{JobID: j.ID, Version: 1, Status: "running", Wanted: true, StartedAt: time.Now(), Generation: 1}
	if _, err := s.CreateLeasedRun(ctx, &again, b, lease.Lease{}); !errors.Is(err, ErrHeld) {
		t.Errorf("a second start elsewhere: %v", err)
	}
	for _, n := range []lease.Node{a, b} {
		if _, err := s.TakeLease(ctx, j.ID, n); !errors.Is(err, ErrHeld) {
			t.Errorf("%s takes the lease of what a carries out: %v", n.Name, err)
		}
	}
	if runs, err := s.Runs(ctx, j.ID, 0, 9); err != nil || len(runs) != 1 || !runs[0].Wanted {
		t.Errorf("the runs are %+v, %v", runs, err)
	}
	if _, err := s.Claim(ctx, j.ID, 1, b); !errors.Is(err, lease.ErrLost) {
		t.Errorf("taken from a node that lives: %v", err)
	}
	commit := func(number, epoch int64) error {
		return s.Commit(ctx, lease.Lease{JobID: j.ID, Number: number, Generation: 1, Epoch: epoch, Place: fmt.Sprint("at ", epoch)})
	}
	letGo := func(number int64) error {
		return s.ask(ctx, "let a job go", func(db *gorm.DB) error { return release(db, j.ID, number) })
	}
	if err := errors.Join(commit(1, 4), commit(1, 5), commit(1, 5)); err != nil {
		t.Error(err)
	}
	_ = commit(1, 4) // a late one
	if l, err := s.LeaseOf(ctx, j.ID); err != nil || l.Epoch != 5 || l.Place != "at 5" {
		t.Errorf("after a late commit it is %+v, %v", l, err)
	}

	age(t, s, "a", lease.TakenAfter+time.Second)
	v, err := s.Beat(ctx, b)
	if err != nil || len(v.Free) != 1 || v.Free[0].Number != 1 || len(v.Mine) != 0 || len(v.Nodes) != 2 || v.Nodes[0].Alive || !v.Nodes[1].Alive || v.Nodes[0].Jobs != 1 {
		t.Fatalf("b sees %+v, %v", v, err)
	}
	second, err := s.Claim(ctx, j.ID, 1, b)
	if err != nil || second.Number != 2 || second.Epoch != 5 || second.Place != "at 5" {
		t.Fatalf("b has %+v, %v", second, err)
	}
	// One that was not heard for long, and takes a lease before its next beat, has it.
	age(t, s, "b", lease.TakenAfter+time.Minute)
	if err := letGo(2); err != nil {
		t.Fatal(err)
	}
	if second, err = s.Claim(ctx, j.ID, 2, b); err != nil || second.Number != 3 {
		t.Fatalf("b has %+v, %v", second, err)
	}
	if v, err := s.Beat(ctx, a); err != nil || len(v.Free) != 0 {
		t.Errorf("a sees as free what b has just taken: %+v, %v", v.Free, err)
	}
	if _, err := s.Claim(ctx, j.ID, 3, a); !errors.Is(err, lease.ErrLost) {
		t.Errorf("a takes what b has just taken: %v", err)
	}
	if _, err := s.Claim(ctx, j.ID, 3, nodeOf("b", "0")); !errors.Is(err, lease.ErrReplaced) {
		t.Errorf("an earlier start of b takes it: %v", err)
	}
	if err := commit(1, 6); !errors.Is(err, lease.ErrLost) {
		t.Errorf("a commit by the lease of before: %v", err)
	}
	if err := letGo(1); !errors.Is(err, lease.ErrLost) {
		t.Errorf("a release by the lease of before: %v", err)
	}
	if v, err := s.Beat(ctx, a); err != nil || len(v.Mine) != 0 || len(v.Free) != 0 {
		t.Errorf("a, which is back, sees %+v, %v", v, err)
	}

	// What bears the number of before is not written; what has the right one is, and a release comes behind it.
	s.Under(j.ID, 1)
	s.UpdateRun(Run{ID: run.ID, JobID: j.ID, Status: "failed", Error: "of the node of before"})
	s.AddEvent(Event{JobID: j.ID, RunID: &run.ID, At: time.Now().UTC(), Kind: "failed", Text: "of the node of before"})
	s.Under(j.ID, 3)
	s.UpdateRun(Run{ID: run.ID, JobID: j.ID, Status: "stopped", Wanted: true})
	s.AddRelease(j.ID, 3)
	written(t, s)
	if got, err := s.Run(ctx, run.ID); err != nil || got.Status != "stopped" || got.Error != "" {
		t.Errorf("the run is %+v, %v", got, err)
	}
	if h, err := s.History(ctx, j.ID, 0, 9); err != nil || len(h) != 0 {
		t.Errorf("the history is %+v, %v", h, err)
	}
	if v, err := s.Beat(ctx, a); err != nil || len(v.Free) != 1 || v.Free[0].Node != "" {
		t.Errorf("a sees %+v, %v", v, err)
	}

	other := nodeOf("b", "2")
	if other.Address = "http://127.0.0.1:2"; !errors.Is(s.Join(ctx, other), ErrNamed) {
		t.Error("two nodes have one name")
	}

	// A node that begins anew has none of its leases; the one of before is out.
	if third, err := s.Claim(ctx, j.ID, 3, a); err != nil || third.Number != 4 {
		t.Fatalf("a has %+v, %v", third, err)
	}
	a2 := join(t, s, nodeOf("a", "2"))
	if _, err := s.Beat(ctx, a); !errors.Is(err, lease.ErrReplaced) {
		t.Errorf("the earlier start beats: %v", err)
	}
	if v, err := s.Beat(ctx, a2); err != nil || len(v.Mine) != 0 || len(v.Free) != 1 {
		t.Errorf("the later start sees %+v, %v", v, err)
	}
	if err := s.RemoveNode(ctx, "a"); !errors.Is(err, ErrLives) {
		t.Errorf("a node that lives is removed: %v", err)
	}
	if err := s.Leave(ctx, a2); err != nil {
		t.Fatal(err)
	}
	if v, err := s.Beat(ctx, b); err != nil || len(v.Nodes) != 2 || v.Nodes[0].Alive || v.Nodes[0].HeardAt.Year() != 1970 || len(v.Free) != 1 {
		t.Errorf("b sees of a node that has ended %+v, %v", v, err)
	}
	if err := errors.Join(s.DrainNode(ctx, "b", true), s.RemoveNode(ctx, "a")); err != nil {
		t.Error(err)
	}
	if err := s.RemoveNode(ctx, "a"); !errors.Is(err, ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
	if v, err := s.Beat(ctx, b); err != nil || len(v.Nodes) != 1 || !v.Nodes[0].Draining {
		t.Errorf("b sees %+v, %v", v, err)
	}
	if err := s.DeleteJob(ctx, j.ID); err != nil {
		t.Fatal(err)
	}
	if err := commit(4, 9); !errors.Is(err, lease.ErrLost) {
		t.Errorf("a commit of a job that is gone: %v", err)
	}
}

// TestLeasesSideBySide: nodes that beat, die, and take from one another at the same time: a node whose beat was noted has each lease that it is told of, until its
// time is over; of each lease there is one holder a number. It goes on until enough was taken, however slow the machine.
func TestLeasesSideBySide(t *testing.T) {
	pg := server(t)
	s := openShared(t, pg.URL(), "")
	const jobs, nodes, enough = 6, 4, 30
	for n := range jobs {
		j, _, _, err := s.SaveVersion(ctx, Job{Name: fmt.Sprintf("job%d", n)}, "doc", "")
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(s.AddLease(ctx, lease.Lease{JobID: j.ID}), s.CreateRun(ctx, &Run{JobID: j.ID, Version: 1, Wanted: true, StartedAt: time.Now()})); err != nil {
			t.Fatal(err)
		}
	}
	var mu sync.Mutex // guards taken
	taken := map[string]string{}
	limited, stop := context.WithTimeout(ctx, time.Minute)
	defer stop()
	var all sync.WaitGroup
	for n := range nodes {
		self := join(t, s, nodeOf(string(rune('a'+n)), "1"))
		own := openShared(t, pg.URL(), "")
		all.Go(func() {
			for limited.Err() == nil {
				v, err := own.Beat(limited, self)
				if err != nil {
					if limited.Err() == nil {
						t.Error(err)
					}
					return
				}
				for _, l := range v.Free {
					got, err := own.Claim(limited, l.JobID, l.Number, self)
					if errors.Is(err, lease.ErrLost) || limited.Err() != nil {
						continue
					}
					if err != nil {
						t.Error(err)
						return
					}
					key := fmt.Sprintf("job %d by %d", got.JobID, got.Number)
					mu.Lock()
					if other, ok := taken[key]; ok {
						t.Errorf("%s was taken by %s and %s", key, other, self.Name)
					}
					taken[key] = self.Name
					if len(taken) >= enough {
						stop()
					}
					mu.Unlock()
				}
				if rand.IntN(4) == 0 { // it was not heard for long, as far as the others know; with its next beat it knows what it has still
					_, err := own.sql.ExecContext(limited, "UPDATE nodes SET heard_at = heard_at - interval '1 minute' WHERE name = $1", self.Name)
					if err != nil && limited.Err() == nil {
						t.Error(err)
						return
					}
				}
				now, err := own.Beat(limited, self)
				if err != nil {
					continue
				}
				// Right after a beat that was noted nobody takes what it told of.
				again, err := own.Beat(limited, self)
				if err != nil {
					continue
				}
				for _, l := range now.Mine {
					kept := false
					for _, x := range again.Mine {
						kept = kept || x.JobID == l.JobID && x.Number == l.Number
					}
					if !kept {
						t.Errorf("%s was told that it has job %d by %d, and lost it within a moment", self.Name, l.JobID, l.Number)
					}
				}
			}
		})
	}
	all.Wait()
	if len(taken) < enough {
		t.Errorf("leases were taken %d times within a minute", len(taken))
	}
}

// TestFollow: what another one changes is told of, soon, and once it can be again where it could not.
func TestFollow(t *testing.T) {
	pg := server(t)
	a, b := openShared(t, pg.URL(), ""), openShared(t, pg.URL(), filepath.Join(t.TempDir(), "waiting"))
	told := make(chan string, 1000)
	limited, stop := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() { a.Follow(limited, func(table string) { told <- table }); close(ended) }()
	defer func() { stop(); <-ended }()
	wait := func(table string) {
		t.Helper()
		for after := time.After(10 * time.Second); ; {
			select {
			case got := <-told:
				if got == table {
					return
				}
			case <-after:
				t.Fatalf("nothing is told of %q", table)
			}
		}
	}
	wait("")
	if _, _, _, err := b.SaveVersion(ctx, Job{Name: "rates"}, "doc", ""); err != nil {
		t.Fatal(err)
	}
	wait("versions")
	if err := b.AddPerson(ctx, &Person{Name: "ann", Role: "reader", MadeAt: time.Now()}, nil); err != nil {
		t.Fatal(err)
	}
	wait("people")
	if _, err := b.sql.ExecContext(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE 'LISTEN%' OR query LIKE '%WaitFor%'"); err != nil && !strings.Contains(err.Error(), "terminat") {
		t.Fatal(err)
	}
	wait("")
	b.PersonSeen(1, time.Now()) // of that nobody is told
	if err := b.AddToken(ctx, &Token{Name: "t", Role: "reader", Digest: []byte("d"), MadeAt: time.Now()}); err != nil {
		t.Fatal(err)
	}
	wait("tokens")
	for len(told) > 0 {
		if got := <-told; got == "people" {
			t.Errorf("it is told of %s", got)
		}
	}
}
