package engine

import (
	"context"
	"fmt"
	"testing"
	"time"
)

// TestManyPartitions: the work for a partition does not grow with their number. Once it was quadratic: 16,000
// files took 50 times as long as 4,000.
func TestManyPartitions(t *testing.T) {
	took := func(n int) time.Duration {
		least := time.Hour
		for range 3 {
			var parts []Partition
			for i := range n {
				parts = append(parts, newFeed(fmt.Sprintf("p%05d", i), true, fmt.Sprintf("%d 1", i), fmt.Sprintf("%d 2", i)))
			}
			began := time.Now()
			res, err := Run(context.Background(), graph(t, &box{}, 0, true, parts...), Options{Lanes: 1})
			if err != nil || res.Figures.Sources[0].Read != int64(2*n) {
				t.Fatal(err, res.Figures.Sources)
			}
			least = min(least, time.Since(began))
		}
		return least
	}
	few, many := took(2000), took(8000)
	t.Logf("2,000 partitions take %v, 8,000 %v", few, many)
	if many > 6*few {
		t.Errorf("2,000 partitions take %v, 8,000 %v: more than 6 times as long", few, many)
	}
}
