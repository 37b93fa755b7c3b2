package row

import (
	"errors"
	"testing"
)

// TestLargeColumn: a column refuses text beyond four GiB. Once its offsets wrapped, and rows were wrong. The memory is
// only reserved: nothing but its end is touched.
func TestLargeColumn(t *testing.T) {
	c := NewColumn(String)
	c.Data = make([]byte, maxData-3, maxData+64)
	c.Off = append(c.Off, uint32(len(c.Data)))
	c.AppendString("abc")
	if got := string(c.Bytes(1)); got != "abc" {
		t.Fatalf("the last row that has room is %q", got)
	}
	defer func() {
		if err, ok := recover().(error); !ok || !errors.Is(err, ErrTooLarge) {
			t.Errorf("a column beyond four GiB gives %v", err)
		}
	}()
	c.AppendString("d")
}
