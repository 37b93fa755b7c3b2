package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"undertide/lease"
)

// TestTogether: records that are written many together leave the same behind as those that are written one after another: of jobs by leases that are held, were let go
// meanwhile, or are another's by then, and of one that is no more.
func TestTogether(t *testing.T) {
	pg := server(t)
	s := openShared(t, pg.URL(), "")
	s.end() // nothing is written behind
	s.done.Wait()
	me, other := join(t, s, nodeOf("quay", "1")), join(t, s, nodeOf("pier", "1"))
	at := time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC)
	// made makes four jobs with a run each, and random records of theirs; the same for a seed, but for the numbers.
	made := func(seed uint64, round string) (names []string, all []record) {
		r := rand.New(rand.NewPCG(seed, 1))
		for n := range 4 {
			name := fmt.Sprintf("job%d%s", n, round)
			names = append(names, name)
			j, _, _, err := s.SaveVersion(ctx, Job{Name: name}, "doc", "")
			if err != nil {
				t.Fatal(err)
			}
			of := Run{JobID: j.ID, Version: 1, Status: "starting", Wanted: true, StartedAt: at, Generation: 1}
			l, err := s.CreateLeasedRun(ctx, &of, me, lease.Lease{})
			if err != nil {
				t.Fatal(err)
			}
			if n == 1 { // another node takes it while they wait
				age(t, s, me.Name, time.Hour)
				if _, err := s.Claim(ctx, j.ID, l.Number, other); err != nil {
					t.Fatal(err)
				}
				join(t, s, me)
			}
			if n == 2 {
				if err := s.DeleteJob(ctx, j.ID); err != nil {
					t.Fatal(err)
				}
			}
			leased := n < 2 || n == 2 && seed%2 == 0
			shape := ShapeOf([]string{"lag_seconds", fmt.Sprint("figure", n)})
			var own []record
			for k := range r.IntN(25) + 5 {
				now := at.Add(time.Duration(k) * time.Second)
				one := record{Lease: l.Number}
				if !leased {
					one.Lease = 0
				}
				switch r.IntN(8) {
				case 0, 1:
					of.Status, of.Restarts = []string{"running", "resuming", "stopped"}[r.IntN(3)], k
					run := of
					one.Run = &run
				case 2:
					one.Event = &Event{JobID: j.ID, RunID: &of.ID, At: now, Kind: "running", Text: fmt.Sprint(k)}
				case 3:
					one.Checkpoint, one.Job = &Checkpoint{RunID: of.ID, Epoch: int64(r.IntN(9)), WrittenAt: now, Partitions: []Stretch{{Source: "lifts", Name: "0", To: json.RawMessage("1")}}}, j.ID
				case 4:
					one.Points = &Batch{Shapes: []Shape{shape}, Points: []Point{{JobID: j.ID, At: now, Shape: shape.ID, Means: Reals{float32(k), 1}, Greatest: Reals{2, 3}}, {JobID: j.ID, Tier: 1, At: at, Shape: shape.ID, Means: Reals{float32(k), 1}, Greatest: Reals{2, 3}}}}
				case 5:
					one.Alarm = &Alarm{JobID: j.ID, Name: "behind", Text: fmt.Sprint(k), OnAt: now}
				case 6:
					one.Alarm = &Alarm{JobID: j.ID, Name: "behind", OffAt: &now}
				case 7:
					one.Telling = &Telling{Notice: "duty", Job: name, Alarm: "behind", State: "on", At: at, About: fmt.Sprint(k), Told: r.IntN(2) == 0}
				}
				own = append(own, one)
			}
			if r.IntN(2) == 0 && leased {
				own = append(own, record{Released: j.ID, Lease: l.Number})
			}
			for _, one := range own { // among those of the others, in its order
				at := 0
				for i, x := range all {
					if x.jobOf() == one.jobOf() {
						at = i + 1
					}
				}
				at += r.IntN(len(all) - at + 1)
				all = slices.Insert(all, at, one)
			}
		}
		return names, all
	}
	// left is what the tables have of jobs, without their numbers.
	left := func(names []string, round string) string {
		var lines []string
		for _, q := range []string{
			"SELECT name, last_epoch FROM jobs WHERE name = ANY($1)",
			"SELECT name, status, restarts, wanted FROM runs JOIN jobs j ON j.id = job_id WHERE name = ANY($1)",
			"SELECT name, at, kind, text FROM history JOIN jobs j ON j.id = job_id WHERE name = ANY($1)",
			"SELECT name, epoch, written_at FROM checkpoints JOIN runs r ON r.id = run_id JOIN jobs j ON j.id = job_id WHERE name = ANY($1)",
			"SELECT name, tier, at, means, greatest, names FROM points JOIN shapes ON id = shape JOIN jobs j ON j.id = job_id WHERE name = ANY($1)",
			"SELECT j.name, a.name, text, on_at, off_at FROM alarms a JOIN jobs j ON j.id = job_id WHERE j.name = ANY($1)",
			"SELECT job, about FROM tellings WHERE job = ANY($1)",
			"SELECT name, number, node FROM leases JOIN jobs j ON j.id = job_id WHERE name = ANY($1)",
		} {
			rows, err := s.sql.QueryContext(ctx, "SELECT x::text FROM ("+q+") x ORDER BY 1", names)
			if err != nil {
				t.Fatal(q, err)
			}
			for rows.Next() {
				var line string
				if err := rows.Scan(&line); err != nil {
					t.Fatal(err)
				}
				lines = append(lines, strings.ReplaceAll(line, round, ""))
			}
			if err := rows.Err(); err != nil {
				t.Fatal(err)
			}
		}
		return strings.Join(lines, "\n")
	}
	long := 0
	for seed := range uint64(30) {
		a, b := fmt.Sprintf("-a%d", seed), fmt.Sprintf("-b%d", seed)
		names, all := made(seed, a)
		for n := range all {
			if done, err := s.write(ctx, all[n:n+1]); done != 1 || err != nil {
				t.Fatal(done, err)
			}
		}
		want := left(names, a)
		names, all = made(seed, b)
		for from := 0; from < len(all); {
			to := min(len(all), from+1+rand.IntN(mostTogether))
			if done, err := s.write(ctx, all[from:to]); done != to-from || err != nil {
				t.Fatal(done, err)
			}
			from = to
		}
		got := left(names, b)
		if got != want {
			t.Fatalf("seed %d: together they leave\n%s\n\nand one after another\n%s", seed, got, want)
		}
		if again, err := s.write(ctx, all); again != len(all) || err != nil { // as after a kill that the journal outlasted
			t.Fatal(again, err)
		}
		long += strings.Count(got, "\n")
	}
	if long < 30*20 {
		t.Errorf("all that was left are %d lines: the test shows little", long)
	}
}

// TestAwait: whoever takes the lease of a job anew waits until what a run of before had to say is written, however long that takes; where it cannot be, that is said.
func TestAwait(t *testing.T) {
	s := openShared(t, server(t).URL(), "")
	me := join(t, s, nodeOf("quay", "1"))
	j, _, _, err := s.SaveVersion(ctx, Job{Name: "rates"}, "doc", "")
	if err != nil {
		t.Fatal(err)
	}
	run := Run{JobID: j.ID, Version: 1, Status: "running", Wanted: true, StartedAt: time.Now(), Generation: 1}
	l, err := s.CreateLeasedRun(ctx, &run, me, lease.Lease{})
	if err != nil {
		t.Fatal(err)
	}
	s.Under(j.ID, l.Number)
	// Something keeps the records from being written for longer than a moment.
	tx, err := s.sql.BeginTx(ctx, nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.ExecContext(ctx, "LOCK TABLE runs IN SHARE MODE"); err != nil {
		t.Fatal(err)
	}
	run.Status, run.Wanted = "stopped", false
	s.UpdateRun(run)
	s.AddRelease(j.ID, l.Number)
	if err := s.Await(ctx, j.ID+1); err != nil {
		t.Errorf("another job waits, too: %v", err)
	}
	limited, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
	defer cancel()
	for _, err := range []error{s.Await(limited, j.ID), s.AwaitAll(limited)} {
		if !errors.Is(err, ErrUnreachable) || !strings.Contains(err.Error(), "some are not written yet") {
			t.Errorf("while they cannot be written: %v", err)
		}
	}
	ended := make(chan error, 1)
	go func() { ended <- s.Await(ctx, j.ID) }()
	time.Sleep(100 * time.Millisecond)
	if err := tx.Rollback(); err != nil {
		t.Fatal(err)
	}
	if err := <-ended; err != nil {
		t.Fatal(err)
	}
	last, err := s.LastRuns(ctx)
	if err != nil || len(last) != 1 || last[0].Status != "stopped" {
		t.Errorf("after the wait: %+v %v", last, err)
	}
	if l, err := s.LeaseOf(ctx, j.ID); err != nil || l.Node != "" {
		t.Errorf("the lease was not let go: %+v %v", l, err)
	}
}
