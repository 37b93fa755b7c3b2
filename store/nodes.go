package store

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/stdlib"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"undertide/lease"
)

// ErrHeld is returned where a job is to start that another node carries out.
var ErrHeld = errors.New("another node carries the job out")

// aliveSQL says whether a node was heard lately, by the database's clock.
var aliveSQL = fmt.Sprintf("heard_at > clock_timestamp() - interval '%d milliseconds'", lease.TakenAfter.Milliseconds())

// ErrNamed is wrapped where a node of the same name is at work elsewhere.
var ErrNamed = errors.New("a node of this name is at work")

// Join notes a node among those that share the database, in place of an earlier start of it. ErrNamed: another one has the name.
func (s *Store) Join(ctx context.Context, n lease.Node) error {
	return s.ask(ctx, "join the nodes", func(db *gorm.DB) error {
		done := db.Exec(`INSERT INTO nodes (name, boot, address, pin, digest, version, cores, memory, started_at, heard_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, clock_timestamp())
			ON CONFLICT (name) DO UPDATE SET boot = excluded.boot, address = excluded.address, pin = excluded.pin, digest = excluded.digest, version = excluded.version,
				cores = excluded.cores, memory = excluded.memory, started_at = excluded.started_at, heard_at = excluded.heard_at, draining = false
			WHERE nodes.address = excluded.address OR NOT nodes.`+aliveSQL,
			n.Name, n.Boot, n.Address, n.Pin, n.Digest, n.Version, n.Cores, n.Memory, n.StartedAt)
		return changed(done, ErrNamed)
	})
}

// Leave notes that a node has ended: it is not heard any more from now on.
func (s *Store) Leave(ctx context.Context, n lease.Node) error {
	return s.ask(ctx, "leave the nodes", func(db *gorm.DB) error {
		return db.Exec("UPDATE nodes SET heard_at = 'epoch' WHERE name = ? AND boot = ?", n.Name, n.Boot).Error
	})
}

// Beat implements [lease.Records], as do Claim and Commit.
//
// The line of a node is locked by its beat and by whoever takes one of its leases ([Store.Claim]), so that one of the two sees what the other did: a beat
// that is noted after a lease was taken tells so, and a lease of a node that was just heard is not taken.
func (s *Store) Beat(ctx context.Context, self lease.Node) (v lease.View, err error) {
	err = s.askBy(ctx, s.beats, "note that the node lives", func(db *gorm.DB) error {
		v = lease.View{}
		return db.Transaction(func(tx *gorm.DB) error {
			done := tx.Exec("UPDATE nodes SET heard_at = clock_timestamp(), address = ?, pin = ?, version = ?, cores = ?, memory = ? WHERE name = ? AND boot = ?", self.Address, self.Pin, self.Version, self.Cores, self.Memory, self.Name, self.Boot)
			if err := changed(done, lease.ErrReplaced); err != nil {
				return err
			}
			var nodes []struct {
				lease.Node
				Alive bool
				Jobs  int
			}
			if err := tx.Raw("SELECT n.*, " + aliveSQL + ` AS alive, coalesce(l.jobs, 0) AS jobs
				FROM nodes n LEFT JOIN (SELECT node, boot, count(*) AS jobs FROM leases GROUP BY node, boot) l ON l.node = n.name AND l.boot = n.boot ORDER BY n.name`).Scan(&nodes).Error; err != nil {
				return err
			}
			for _, n := range nodes {
				n.Node.Alive, n.Node.Jobs = n.Alive, n.Jobs
				v.Nodes = append(v.Nodes, n.Node)
			}
			if err := tx.Where("node = ? AND boot = ?", self.Name, self.Boot).Order("job_id").Find(&v.Mine).Error; err != nil {
				return err
			}
			return tx.Raw(`SELECT l.* FROM leases l LEFT JOIN nodes n ON n.name = l.node AND n.boot = l.boot AND n.` + aliveSQL + `
				WHERE n.name IS NULL AND EXISTS (SELECT 1 FROM runs r WHERE r.job_id = l.job_id AND r.wanted) ORDER BY l.job_id`).Scan(&v.Free).Error
		})
	})
	return v, err
}

// Claim takes a lease of a number that is free.
func (s *Store) Claim(ctx context.Context, job, number int64, self lease.Node) (l lease.Lease, err error) {
	err = s.askBy(ctx, s.beats, "take a job over", func(db *gorm.DB) error {
		return db.Transaction(func(tx *gorm.DB) error { return claim(tx, job, number, self, &l) })
	})
	return l, err
}

func claim(tx *gorm.DB, job, number int64, self lease.Node, out *lease.Lease) error {
	var l lease.Lease
	err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("job_id = ?", job).Take(&l).Error
	if errors.Is(err, gorm.ErrRecordNotFound) || err == nil && l.Number != number {
		return lease.ErrLost
	}
	if err != nil {
		return err
	}
	// The lines of both are locked in one order, so that two that take from one another do not wait for one another.
	var nodes []struct {
		Name, Boot string
		Alive      bool
	}
	if err := tx.Raw("SELECT name, boot, "+aliveSQL+" AS alive FROM nodes WHERE name IN (?, ?) ORDER BY name FOR UPDATE", l.Node, self.Name).Scan(&nodes).Error; err != nil {
		return err
	}
	for _, n := range nodes {
		if n.Alive && n.Name == l.Node && n.Boot == l.Boot && n.Name != self.Name {
			return lease.ErrLost
		}
	}
	// To take is to live: else the others would take it in turn from one whose beat is on its way.
	heard := tx.Exec("UPDATE nodes SET heard_at = clock_timestamp() WHERE name = ? AND boot = ?", self.Name, self.Boot)
	if err := changed(heard, lease.ErrReplaced); err != nil {
		return err
	}
	*out = lease.Lease{}
	return tx.Raw("UPDATE leases SET number = number + 1, node = ?, boot = ?, taken_at = clock_timestamp() WHERE job_id = ? RETURNING *", self.Name, self.Boot, job).Scan(out).Error
}

// release lets a lease go.
func release(db *gorm.DB, job, number int64) error {
	return held(db.Exec("UPDATE leases SET node = '', boot = '' WHERE job_id = ? AND number = ?", job, number))
}

// Commit makes a checkpoint count.
func (s *Store) Commit(ctx context.Context, l lease.Lease) error {
	return s.ask(ctx, "note a checkpoint", func(db *gorm.DB) error { return commit(db, l) })
}

// commit leaves a newer checkpoint as it is: a request that was given up may come to be after the one that was made in its place.
func commit(db *gorm.DB, l lease.Lease) error {
	return held(db.Exec("UPDATE leases SET generation = ?, epoch = ?, place = ? WHERE job_id = ? AND number = ? AND (generation, epoch) <= (?, ?)", l.Generation, l.Epoch, l.Place, l.JobID, l.Number, l.Generation, l.Epoch))
}

// held is the error of a change by a lease; lease.ErrLost where it is another's.
func held(done *gorm.DB) error { return changed(done, lease.ErrLost) }

// CreateLeasedRun is CreateRun on a node, which takes the job's lease with it. ErrHeld: another node has the job. from is the checkpoint that the run begins from, where its
// generation is not that of the newest one: then it is the one that counts; of epoch 0 for none.
func (s *Store) CreateLeasedRun(ctx context.Context, r *Run, self lease.Node, from lease.Lease) (l lease.Lease, err error) {
	settle(ctx, r)
	err = s.change(ctx, "store the run", func(tx *gorm.DB) error {
		r.ID = 0 // where this is done again
		was, err := leaseFor(tx, r.JobID)
		if err != nil {
			return err
		}
		if err := claimed(claim(tx, r.JobID, was.Number, self, &l)); err != nil {
			return err
		}
		if l.Generation != r.Generation {
			l.Generation, l.Epoch, l.Place = r.Generation, from.Epoch, from.Place
			if err := commit(tx, l); err != nil {
				return err
			}
		}
		return createRun(tx, r)
	})
	return l, err
}

// TakeLease takes the lease of a job that does not run, for what only one node may do to it. ErrHeld: a node has it, this one included.
func (s *Store) TakeLease(ctx context.Context, job int64, self lease.Node) (l lease.Lease, err error) {
	err = s.ask(ctx, "take the lease", func(db *gorm.DB) error {
		return db.Transaction(func(tx *gorm.DB) error {
			was, err := leaseFor(tx, job)
			if err != nil {
				return err
			}
			if was.Node == self.Name && was.Boot == self.Boot {
				return ErrHeld
			}
			return claimed(claim(tx, job, was.Number, self, &l))
		})
	})
	return l, err
}

// leaseFor gives the lease of a job, locked; a free one where no node ever had it.
func leaseFor(tx *gorm.DB, job int64) (l lease.Lease, err error) {
	if err := tx.Exec("INSERT INTO leases (job_id, number, node, boot, taken_at) VALUES (?, 0, '', '', clock_timestamp()) ON CONFLICT DO NOTHING", job).Error; err != nil {
		return l, err
	}
	return l, tx.Raw("SELECT * FROM leases WHERE job_id = ? FOR UPDATE", job).Scan(&l).Error
}

// claimed is the error of a claim of a number that was just read: it says who has the job where it is not free.
func claimed(err error) error {
	if errors.Is(err, lease.ErrLost) {
		return ErrHeld
	}
	return err
}

// AddLease notes the lease of a job that no node has had yet, which is free.
func (s *Store) AddLease(ctx context.Context, l lease.Lease) error {
	return s.ask(ctx, "note a lease", func(db *gorm.DB) error {
		return db.Exec("INSERT INTO leases (job_id, number, node, boot, taken_at, generation, epoch, place) VALUES (?, 0, '', '', clock_timestamp(), ?, ?, ?) ON CONFLICT DO NOTHING", l.JobID, l.Generation, l.Epoch, l.Place).Error
	})
}

// AddRelease lets a lease go behind the caller: once what was written behind before is written.
func (s *Store) AddRelease(job, number int64) { s.later(record{Released: job, Lease: number}) }

// Node gives a node by name; ErrNotFound where there is none.
func (s *Store) Node(ctx context.Context, name string) (n lease.Node, err error) {
	err = s.ask(ctx, "read a node", func(db *gorm.DB) error { return db.Where("name = ?", name).Take(&n).Error })
	return n, err
}

// Leases lists all leases by job.
func (s *Store) Leases(ctx context.Context) (out []lease.Lease, err error) {
	err = s.ask(ctx, "list leases", func(db *gorm.DB) error { return db.Order("job_id").Find(&out).Error })
	return out, err
}

// LeaseOf gives the lease of a job; ErrNotFound where nobody ever had it.
func (s *Store) LeaseOf(ctx context.Context, job int64) (l lease.Lease, err error) {
	err = s.ask(ctx, "read the lease", func(db *gorm.DB) error { return db.Where("job_id = ?", job).Take(&l).Error })
	return l, err
}

// DrainNode says whether a node takes jobs. ErrNotFound: there is none of the name.
func (s *Store) DrainNode(ctx context.Context, name string, draining bool) error {
	return s.change(ctx, "drain a node", func(tx *gorm.DB) error {
		return found(tx.Exec("UPDATE nodes SET draining = ? WHERE name = ?", draining, name))
	})
}

// ErrLives is returned where a node is to be removed that is heard.
var ErrLives = errors.New("the node lives")

// RemoveNode forgets a node that is not heard any more.
func (s *Store) RemoveNode(ctx context.Context, name string) error {
	return s.change(ctx, "remove a node", func(tx *gorm.DB) error {
		done := tx.Exec("DELETE FROM nodes WHERE name = ? AND NOT "+aliveSQL, name)
		if done.Error != nil || done.RowsAffected > 0 {
			return done.Error
		}
		var n int64
		if err := tx.Raw("SELECT count(*) FROM nodes WHERE name = ?", name).Scan(&n).Error; err != nil {
			return err
		}
		if n > 0 {
			return ErrLives
		}
		return ErrNotFound
	})
}

// Under lets what is written behind of a job bear the number of its lease from now on: it is refused where the lease is another's by then. 0: no longer.
func (s *Store) Under(job, number int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if number == 0 {
		delete(s.under, job)
		return
	}
	s.under[job] = number
}

// jobOf gives the job that a record is of; 0 for none.
func (r *record) jobOf() int64 {
	switch {
	case r.Run != nil:
		return r.Run.JobID
	case r.Event != nil:
		return r.Event.JobID
	case r.Checkpoint != nil:
		return r.Job
	case r.Points != nil && len(r.Points.Points) > 0:
		return r.Points.Points[0].JobID
	case r.Alarm != nil:
		return r.Alarm.JobID
	}
	return r.Released
}

// underOf gives the number of the lease that a record of a job bears. Called with mu held.
func (s *Store) underOf(r *record) int64 {
	if job := r.jobOf(); job != 0 && r.Lease == 0 {
		return s.under[job]
	}
	return r.Lease
}

// stillHeld says whether a lease is the caller's until the transaction ends.
func stillHeld(tx *gorm.DB, l lease.Lease) error {
	now, err := numbers(tx, l.JobID)
	if err == nil && (l.Number == 0 || now[l.JobID] != l.Number) {
		return lease.ErrLost
	}
	return err
}

// numbers gives those of the leases of jobs; they stay what they are until the transaction ends.
func numbers(tx *gorm.DB, jobs ...int64) (map[int64]int64, error) {
	var leases []lease.Lease
	if err := tx.Raw("SELECT job_id, number FROM leases WHERE job_id IN ? ORDER BY job_id FOR SHARE", jobs).Scan(&leases).Error; err != nil {
		return nil, err
	}
	out := map[int64]int64{}
	for _, l := range leases {
		out[l.JobID] = l.Number
	}
	return out, nil
}

// Follow tells of each table that somebody has changed, this service included, until ctx is done; with an empty name where it may have missed some.
func (s *Store) Follow(ctx context.Context, told func(table string)) {
	for ctx.Err() == nil {
		err := s.follow(ctx, told)
		if ctx.Err() == nil {
			s.log.Debug("what other nodes change is not told of just now", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(pingEvery):
		}
	}
}

// quietFor is how long nothing may be told of before it is asked whether the server is there still.
const quietFor = 2 * time.Second

func (s *Store) follow(ctx context.Context, told func(table string)) error {
	conn, err := s.sql.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return conn.Raw(func(c any) error {
		session, ok := c.(*stdlib.Conn)
		if !ok {
			return fmt.Errorf("%T tells of no changes", c)
		}
		pg := session.Conn()
		if _, err := pg.Exec(ctx, "LISTEN undertide"); err != nil {
			return errors.Join(err, driver.ErrBadConn)
		}
		told("")
		for {
			limited, cancel := context.WithTimeout(ctx, quietFor)
			n, err := pg.WaitForNotification(limited)
			cancel()
			switch {
			case err == nil:
				told(n.Payload)
			case ctx.Err() != nil || !errors.Is(err, context.DeadlineExceeded) || pg.IsClosed():
				return errors.Join(err, driver.ErrBadConn) // it listens, so nobody else may have it
			default:
				limited, cancel := context.WithTimeout(ctx, quietFor)
				err := pg.Ping(limited)
				cancel()
				if err != nil {
					return errors.Join(err, driver.ErrBadConn)
				}
			}
		}
	})
}
