package codec

import (
	"math/rand/v2"
	"testing"

	"undertide/core/row"
)

// TestTimes: timestamps in any order are written as each would be alone.
func TestTimes(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 2))
	var times Times
	at := row.Time(1767225600_000000)
	for range 200_000 {
		switch r.IntN(8) {
		case 0:
			at = row.FirstTime + row.Time(r.Int64N(int64(row.LastTime-row.FirstTime)+1))
		case 1:
			at = []row.Time{row.FirstTime, row.LastTime, 0, -1, row.FirstTime - 1, row.LastTime + 1, microsOfDay, microsOfDay - 1, -microsOfDay}[r.IntN(9)]
		case 2: // the same again
		default:
			at += row.Time(r.Int64N(1<<r.IntN(40)+1)) * row.Time([]int64{1, 1000, 1_000_000, -1}[r.IntN(4)])
		}
		if got, want := string(times.Append([]byte("x"), at)), string(row.AppendTime([]byte("x"), at)); got != want {
			t.Fatalf("%d is written %s, want %s", at, got, want)
		}
	}
}
