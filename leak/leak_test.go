package leak

import (
	"bytes"
	"testing"
	"time"
)

// TestLeft: a goroutine that does not end is found, and one that ends in time is not.
func TestLeft(t *testing.T) {
	before := len(Left(0))
	stop, soon := make(chan struct{}), make(chan struct{})
	go func() { <-stop }()
	go func() { <-soon }()
	time.AfterFunc(20*time.Millisecond, func() { close(soon) })
	left := Left(100 * time.Millisecond)
	if len(left) != before+1 {
		t.Errorf("%d goroutines are left, want one more than %d:\n%s", len(left), before, bytes.Join(left, []byte("\n\n")))
	}
	close(stop)
	if left := Left(time.Second); len(left) > before {
		t.Errorf("%d goroutines are left, want %d", len(left), before)
	}
}

func TestMain(m *testing.M) { Main(m) }
