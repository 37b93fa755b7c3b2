package state

import (
	"math/rand/v2"
	"testing"
)

// TestSmallFilter: a filter of few hashes is small, so that many of them are.
func TestSmallFilter(t *testing.T) {
	var f Filter
	f.Expect(12)
	for h := range uint64(12) {
		f.Add(h * 0x9e3779b97f4a7c15)
	}
	if f.Bytes() > 512 {
		t.Errorf("it takes %d bytes for 12 hashes", f.Bytes())
	}
}

// TestFilter: what was added is never denied, and of what was not few are taken for it, also where all
// hashes have one remainder, as those of a share have.
func TestFilter(t *testing.T) {
	for _, apart := range []uint64{1, Shares, 4096} {
		r := rand.New(rand.NewPCG(apart, 1))
		var f Filter
		added := make([]uint64, 300_000)
		for i := range added {
			added[i] = r.Uint64()/apart*apart + apart/2
			f.Add(added[i])
		}
		for _, h := range added {
			if !f.Has(h) {
				t.Fatalf("%x was added and is denied", h)
			}
		}
		wrong := 0
		const asked = 200_000
		for range asked {
			if f.Has(r.Uint64()/apart*apart + apart/2) {
				wrong++
			}
		}
		if share := float64(wrong) / asked; share > 0.01 {
			t.Errorf("hashes %d apart: %.1f %% of those that were not added are taken for some that were", apart, 100*share)
		}
		if bits := 8 * float64(f.Bytes()) / float64(len(added)); bits > 36 {
			t.Errorf("%.1f bits a hash", bits)
		}
	}
}
