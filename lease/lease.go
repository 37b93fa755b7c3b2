// Package lease lets several services share jobs, so that no two of them carry out one at a time, and what one does that was cut off counts no more
// (docs/nodes.md). What is shared stands in [Records], which the database keeps; a [Keeper] is the part of one node. Callers begin with [NewKeeper].
//
// Two things keep two nodes from one job. The first is time: a node stops by itself before the others may take its jobs.
//
//	0.0 s  the node sends a beat; it may act until 4.0 s by its own clock
//	0.1 s  the beat is written, by the database's clock
//	       … the node is cut off …
//	4.0 s  it stops
//	5.1 s  the others may take its jobs
//
// It takes clocks that run alike, not clocks that show the same: a tenth more or less is allowed for. A process that was suspended between looking at
// the clock and acting is not stopped by it, so time is not what exactness rests on. That is the second: each taking gives the lease a
// greater number, and what changes anything, a record, a checkpoint, a delivery behind it, goes through only with the number that the lease has. A
// checkpoint counts once [Records.Commit] has it, and is delivered after that; so whoever takes a lease finds all that can ever have been
// delivered.
package lease

import (
	"context"
	"errors"
	"time"
)

// Times of leases.
const (
	// BeatEvery is how often a node says that it lives.
	BeatEvery = 500 * time.Millisecond
	// LastsFor is how long a node may act after it sent its last beat, by its own clock.
	LastsFor = 4 * time.Second
	// TakenAfter is how long after the last beat came its leases may be taken, by the database's clock.
	TakenAfter = 5 * time.Second
)

var (
	// ErrLost is wrapped where a lease is another's by now: what was asked for with its number was not done.
	ErrLost = errors.New("another node has taken the job over")
	// ErrReplaced is wrapped where another start of a node's name has joined, or the node was removed: this one has no part in the leases any more.
	ErrReplaced = errors.New("the node is not among the nodes any more")
	// ErrExpired is wrapped where a node could not say for too long that it lives, and does not know whether it has its leases still.
	ErrExpired = errors.New("the database has not answered for so long that the others may have taken the job over")
)

// Node is a service on a machine, as the others know it.
type Node struct {
	Name      string
	Boot      string // of this start of it
	Address   string // where it is reached
	Pin       string // SHA-256 of its certificate's key, hexadecimal; empty without TLS
	Digest    []byte // SHA-256 of the token by which it shows who it is
	Version   string
	Cores     int
	Memory    int64 // bytes
	StartedAt time.Time
	HeardAt   time.Time // by the database's clock; in 1970 for one that has ended in good order
	Draining  bool      // it takes nothing more, and its jobs go elsewhere
	// Alive says whether it was heard lately, by the database's clock. Not stored.
	Alive bool `gorm:"-"`
	// Jobs counts its leases. Not stored.
	Jobs int `gorm:"-"`
}

// Lease says who carries out a job.
type Lease struct {
	JobID   int64
	Number  int64
	Node    string // empty: nobody
	Boot    string
	TakenAt time.Time
	// Generation, Epoch and Place are of the newest checkpoint that counts; Epoch is 0 where there is none.
	Generation int
	Epoch      int64
	Place      string
}

// View is what a beat tells.
type View struct {
	Nodes []Node // by name, also those that are not heard any more
	Mine  []Lease
	// Free are leases of jobs that are to go on and that nobody carries out: of nodes that are not heard, or that let them go.
	Free []Lease
}

// Records are what the nodes share. Each call is one step that either happens or does not; an error that wraps none of this package's says that nobody knows.
type Records interface {
	// Beat notes that a node lives, and gives what there is after that. ErrReplaced: it is not among the nodes.
	Beat(ctx context.Context, self Node) (View, error)
	// Claim takes a lease of a number that is free; ErrLost where it is not, or has another number by now. It counts as a beat, too: what a node has just taken nobody takes
	// from it for as long as from one that was just heard.
	Claim(ctx context.Context, job, number int64, self Node) (Lease, error)
	// Commit makes a checkpoint count; ErrLost where the lease is another's.
	Commit(ctx context.Context, l Lease) error
}
