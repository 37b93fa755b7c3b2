// Package leak lets a package's tests fail where goroutines are left after them. It is for tests alone.
package leak

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"runtime"
	"time"
)

// patience is how long goroutines may take to end after the last test.
const patience = 5 * time.Second

// ours are goroutines of the runtime and of what tests are run by; each is known by a line of its stack.
var ours = []string{"leak.stacks(", "os/signal.signal_recv(", "testing.(*M).startAlarm", "testing/synctest"}

// Main runs a package's tests and ends the process: with status 1 where they pass and goroutines are left, which it
// writes to standard error. Call it from TestMain. Those whose stack has one of the texts of others may stay.
func Main(m interface{ Run() int }, others ...string) {
	ours = append(ours, others...)
	status := m.Run()
	if status == 0 {
		if left := Left(patience); len(left) > 0 {
			fmt.Fprintf(os.Stderr, "FAIL: %d goroutines are left after the tests:\n\n%s\n", len(left), bytes.Join(left, []byte("\n\n")))
			status = 1
		}
	}
	os.Exit(status)
}

// Left gives the stacks of the goroutines that are there beside the caller's, after they had so much time to end.
func Left(wait time.Duration) (left [][]byte) {
	http.DefaultClient.CloseIdleConnections()
	for until := time.Now().Add(wait); ; time.Sleep(10 * time.Millisecond) {
		left = nil
		for _, s := range stacks() {
			if !known(s) {
				left = append(left, s)
			}
		}
		if len(left) == 0 || time.Now().After(until) {
			return left
		}
	}
}

func stacks() [][]byte {
	buf := make([]byte, 1<<20)
	for {
		if n := runtime.Stack(buf, true); n < len(buf) {
			return bytes.Split(bytes.TrimSpace(buf[:n]), []byte("\n\n"))
		}
		buf = make([]byte, 2*len(buf))
	}
}

func known(stack []byte) bool {
	for _, line := range ours {
		if bytes.Contains(stack, []byte(line)) {
			return true
		}
	}
	return false
}
