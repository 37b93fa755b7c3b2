package checkpoint

import (
	"testing"

	"undertide/leak"
)

// A store that is broken, by a fault that a test made, is not closed: the library's goroutines stay (TestCloses looks at
// them where nothing is broken).
func TestMain(m *testing.M) { leak.Main(m, "cockroachdb/pebble") }
