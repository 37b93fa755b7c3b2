package engine

import (
	"fmt"
	"runtime/debug"
	"sync"

	"undertide/core/state"
)

// Panic is the fault of a run in which code panicked, ours or that of a connector. It ends that run and
// nothing else of the program.
type Panic struct {
	Value any
	Stack []byte // of the goroutine that panicked, for the log
}

func (p *Panic) Error() string {
	return fmt.Sprintf("fault of ours: %v; the run cannot go on, its log has the place. Please report it", p.Value)
}

// Guard calls f and gives a panic of it as an error, a [Panic].
func Guard(f func() error) (err error) {
	defer func() {
		v := recover()
		if failed, is := v.(state.Failure); is { // the store behind a lane: no bug of ours
			err = failed.Err
		} else if v != nil {
			err = &Panic{Value: v, Stack: debug.Stack()}
		}
	}()
	return f()
}

// guard calls f; a panic of it is the run's fault.
func (e *run) guard(f func()) {
	if err := Guard(func() error { f(); return nil }); err != nil {
		e.fail(err)
	}
}

// spawn runs f in a goroutine of the run, counted by wait if that is not nil. All goroutines of a run are
// made here, so that a panic in one of them is the run's fault and not the program's.
func (e *run) spawn(wait *sync.WaitGroup, f func()) {
	if wait != nil {
		wait.Add(1)
	}
	go func() {
		if wait != nil {
			defer wait.Done()
		}
		e.guard(f)
	}()
}
