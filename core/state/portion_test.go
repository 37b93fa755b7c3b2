package state

import (
	"fmt"
	"testing"

	"undertide/core/row"
)

// TestPortionOf: portions have about equal parts of the keys, and so have the lanes of each.
func TestPortionOf(t *testing.T) {
	const keys = 60_000
	for _, portions := range []int{1, 2, 3, 4, 7, 64} {
		const lanes = 3
		counts := make([][lanes]int, portions)
		var k Keys
		c := row.NewColumn(row.String)
		for i := range keys {
			c.Reset()
			c.AppendString(fmt.Sprintf("C%d", i))
			k.EncodeOne([]*row.Column{c}, 0)
			counts[PortionOf(k.Hash[0], portions)][LaneOf(ShareOf(k.Hash[0]), lanes)]++
		}
		// 240 shares of which each portion has as many as another, or one more: 3 or 4 with 64 of them.
		least, most := float64(240/portions)/240*keys/lanes*0.8, float64(240/portions+1)/240*keys/lanes*1.2
		for p, of := range counts {
			for l, n := range of {
				if float64(n) < least || float64(n) > most {
					t.Errorf("of %d portions, lane %d of portion %d has %d keys, want %.0f to %.0f", portions, l, p, n, least, most)
				}
			}
		}
	}
}
