//go:build checks

package engine

import "bytes"

// leastMemory is what a lane may hold in any case: little, so that the small jobs of tests find what does not go.
const leastMemory = 2 << 20

// poison overwrites a turn that was put back, so that whoever still reads it gives wrong rows, which
// the tests notice. It also finds a turn that is put back twice.
func poison(t *turn) {
	if t.batch == nil {
		return
	}
	t.batch.Reset()
	t.exec.takeBack()
	for _, m := range t.marks {
		for i := range m {
			m[i] = -1
		}
	}
	for raw := t.chunk.Raw; len(raw) > 0; {
		raw = raw[copy(raw, tildes):]
	}
}

var tildes = bytes.Repeat([]byte{'~'}, 64<<10)

// checkReleased panics when a turn is put back more often than it was handed out.
func checkReleased(left int32) {
	if left < 0 {
		panic("a turn was put back twice")
	}
}
