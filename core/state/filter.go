package state

// Filter says of a hash that it was surely not added, or that it may have been: about one in two hundred of those
// that were not is taken for one that was. It takes sixteen bits a hash that there is room for. The zero value is empty.
//
// Each hash has its bits in one block of 64 bytes, so that asking costs one look into memory. Hashes come in parts: a part
// is full at sixteen bits each, and the next is twice as large.
type Filter struct {
	parts []filterPart
	n     int
	most  int // hashes that the next part takes
}

type filterPart struct {
	blocks [][8]uint64
	room   int
}

const (
	filterBits  = 16
	filterFirst = 128 // hashes of the first part: there may be one for each of a thousand open windows
)

// Expect makes the first part large enough for so many hashes. It is called before the first Add.
func (f *Filter) Expect(n int) { f.grow(max(n, filterFirst)) }

func (f *Filter) grow(room int) {
	f.parts = append(f.parts, filterPart{blocks: make([][8]uint64, room*filterBits/512+1), room: room})
	f.most = 2 * room
}

// Add adds a hash.
func (f *Filter) Add(hash uint64) {
	last := len(f.parts) - 1
	if last < 0 || f.parts[last].room == 0 {
		f.grow(max(f.most, filterFirst))
		last++
	}
	p := &f.parts[last]
	p.room--
	f.n++
	b := p.block(hash)
	for i := range b {
		b[i] |= 1 << bitOf(hash, i)
	}
}

// Has says whether the hash may have been added.
func (f *Filter) Has(hash uint64) bool {
	for i := len(f.parts) - 1; i >= 0; i-- {
		if f.parts[i].has(hash) {
			return true
		}
	}
	return false
}

func (p *filterPart) has(hash uint64) bool {
	b := p.block(hash)
	for i := range b {
		if b[i]>>bitOf(hash, i)&1 == 0 {
			return false
		}
	}
	return true
}

// block spreads hashes anew: those of a lane have few remainders by the number of shares.
func (p *filterPart) block(hash uint64) *[8]uint64 {
	mixed := hash * 0x9e3779b97f4a7c15
	return &p.blocks[(mixed>>32)*uint64(len(p.blocks))>>32]
}

// bitOf gives the bit of a hash in word i of its block.
func bitOf(hash uint64, i int) uint64 { return hash * odd[i] >> 58 }

var odd = [8]uint64{0x47b6137b44974d91, 0x8824ad5ba2b7289d, 0x705495c72df1424b, 0x9efc49475c6bfb31, 0xb5470917a2b7c9a3, 0xd3a2646cab3b0b05, 0xc4ceb9fe1a85ec53, 0xff51afd7ed558ccd}

// Len counts the hashes that were added, those that came again too.
func (f *Filter) Len() int { return f.n }

// Bytes is the memory that it takes.
func (f *Filter) Bytes() (n int) {
	for _, p := range f.parts {
		n += 64 * len(p.blocks)
	}
	return n
}
