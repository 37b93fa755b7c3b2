package job

import (
	"context"
	"errors"
	"maps"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"undertide/job/hostile"
	"undertide/pace"
)

// TestHostileDocuments: whatever a document holds, reading it takes less than a second and little memory.
func TestHostileDocuments(t *testing.T) {
	documents := hostile.Documents()
	for i, name := range slices.Sorted(maps.Keys(documents)) {
		if i%pace.Of(1, 10) > 0 {
			continue
		}
		text := documents[name]
		t.Run(name, func(t *testing.T) {
			if len(text) > MaxDocument {
				t.Fatalf("the document has %d bytes, which is more than anybody reads", len(text))
			}
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			from, cpu := time.Now(), cpuTime(t)
			_, err := Parse("hostile.yaml", text, Options{})
			took := min(time.Since(from), cpuTime(t)-cpu) // what others do on the machine is not its fault
			runtime.ReadMemStats(&after)
			if most := time.Second * time.Duration(pace.Of(1, 12)); took > most {
				t.Errorf("reading took %s, more than %s", took, most)
			}
			if made := int64(after.TotalAlloc-before.TotalAlloc) >> 20; made > 1024 {
				t.Errorf("reading made %d MiB", made)
			}
			if right := slices.Contains(hostile.Right, name); (err == nil) != right {
				t.Errorf("the document gives %v", err)
			}
			var faults Faults
			if errors.As(err, &faults) && (len(faults) > maxFaults+1 || len(err.Error()) > 150_000) {
				t.Errorf("%d faults in %d bytes are said", len(faults), len(err.Error()))
			}
		})
	}
}

// cpuTime is how long the process has had a CPU.
func cpuTime(t *testing.T) time.Duration {
	t.Helper()
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		t.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// TestBounds: what is too large is refused at its place; what is as large as allowed is read.
func TestBounds(t *testing.T) {
	texts := hostile.Documents()
	for name, want := range map[string]string{
		"brackets":         "hostile.yaml:1:65: the document is nested more than 64 deep",
		"deep block":       "hostile.yaml:65:66: the document is nested more than 64 deep",
		"dashes":           "nested more than 64 deep",
		"many keys":        "hostile.yaml:2001:6: a mapping has more than 2000 entries",
		"many small lists": "the document has more than 50000 values",
		"alias bomb":       "with what its aliases repeat, the document has more than 50000 values",
		"macros in macros": "more than 6 of map, filter, exists and all stand within one another",
		"a long sum":       "the expression has 200001 bytes; at most 8000 are read",
		"conditions":       "the YAML cannot be read",
		"1999 steps":       "",
		"1999 sinks":       "",
		"1999 fields":      "",
	} {
		if pace.Race && want == "" {
			continue // they take seconds each; TestHostileDocuments reads some of them, and this test all in its full form
		}
		_, err := Parse("hostile.yaml", texts[name], Options{})
		if got := message(err); want == "" && got != "" || !strings.Contains(got, want) {
			t.Errorf("%s: %.300s, want %q", name, got, want)
		}
	}
	// A document that is right, and one that mentions brackets and columns in every way that is allowed.
	_, err := Parse("ok.yaml", texts["1999 unknown steps"], Options{})
	var faults Faults
	if !errors.As(err, &faults) || len(faults) != maxFaults+1 || !strings.Contains(faults[maxFaults].Error(), "and 1899 more mistakes") {
		t.Errorf("the last of %d faults is %v", len(faults), faults[len(faults)-1])
	}
}

func message(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

// TestReadingEnds: a reading ends with its context.
func TestReadingEnds(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Read(ctx, "hostile.yaml", hostile.Documents()["1999 windows"]).Job(ctx, Options{}); !errors.Is(err, context.Canceled) {
		t.Errorf("the reading gives %v", err)
	}
}
