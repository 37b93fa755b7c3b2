// Package state holds keyed window state by share: a dictionary of keys with dense numbers, and for
// each open slice of time plain columns of accumulators (window-major). One lane owns each table;
// nothing here is safe for concurrent use. See docs/architecture.md, "The way of a row".
package state

import (
	"encoding/binary"
	"fmt"
	"math"

	"github.com/cespare/xxhash/v2"

	"undertide/core/row"
)

// Shares is the number of fixed parts of the key space. State is stored by share, so that another
// number of lanes can load it.
const Shares = 240

// ShareOf gives the share of a key hash.
func ShareOf(hash uint64) uint8 { return uint8(hash % Shares) }

// LaneOf gives the lane that owns a share when there are so many lanes.
func LaneOf(share uint8, lanes int) int { return int(share) * lanes / Shares }

// PortionOf gives the portion of a spread job that owns a key where there are so many (docs/spread.md, "Which portion has a row"). It goes by other bits of the hash
// than [ShareOf], so that the lanes of a portion have equal parts of its keys.
func PortionOf(hash uint64, portions int) int {
	return int(hash/Shares%Shares) * portions / Shares
}

// Keys are the encoded keys of a batch's rows with their hashes. An encoded key is, for each key
// field, one byte for its kind (0: null), then 8 bytes little endian, or for text its length as an
// unsigned varint and its bytes.
type Keys struct {
	Off  []uint32
	Data []byte
	Hash []uint64
}

// Bytes gives key i; it lives until the next Encode.
func (k *Keys) Bytes(i int) []byte { return k.Data[k.Off[i]:k.Off[i+1]] }

// Encode takes the keys of the selected rows from the key columns: key j is that of row sel[j].
func (k *Keys) Encode(cols []*row.Column, sel []uint16) {
	k.Off, k.Data, k.Hash = append(k.Off[:0], 0), k.Data[:0], k.Hash[:0]
	single := len(cols) == 1 && cols[0].Kind.Text() && cols[0].Kind != row.Decimal && len(cols[0].Null) == 0
	for _, r := range sel {
		start := len(k.Data)
		if single {
			v := cols[0].Bytes(int(r))
			k.Data = append(k.Data, byte(cols[0].Kind))
			if len(v) < 0x80 {
				k.Data = append(k.Data, byte(len(v)))
			} else {
				k.Data = binary.AppendUvarint(k.Data, uint64(len(v)))
			}
			k.Data = append(k.Data, v...)
		} else {
			for _, c := range cols {
				k.Data = appendKey(k.Data, c, int(r))
			}
		}
		k.Off = append(k.Off, uint32(len(k.Data)))
		k.Hash = append(k.Hash, xxhash.Sum64(k.Data[start:]))
	}
}

func appendKey(dst []byte, c *row.Column, i int) []byte {
	switch {
	case c.IsNull(i):
		return append(dst, 0)
	case c.Kind == row.Double:
		f := c.F[i]
		if f == 0 {
			f = 0 // one key for both zeros
		}
		return binary.LittleEndian.AppendUint64(append(dst, byte(c.Kind)), math.Float64bits(f))
	case c.Kind.Text():
		v := c.Bytes(i)
		if c.Kind == row.Decimal { // one key for 10.1 and 10.10
			v = row.PlainDecimal(v)
		}
		return append(binary.AppendUvarint(append(dst, byte(c.Kind)), uint64(len(v))), v...)
	}
	return binary.LittleEndian.AppendUint64(append(dst, byte(c.Kind)), uint64(c.I[i]))
}

// AppendKey decodes an encoded key onto key columns.
func AppendKey(cols []*row.Column, key []byte) error {
	for _, c := range cols {
		if len(key) == 0 {
			return fmt.Errorf("the key ends before its last field")
		}
		tag := key[0]
		key = key[1:]
		switch {
		case tag == 0:
			c.AppendNull()
			continue
		case row.Kind(tag) != c.Kind:
			return fmt.Errorf("the key holds a %s where %s is expected", row.Kind(tag), c.Kind)
		case c.Kind.Text():
			n, w := binary.Uvarint(key)
			if w <= 0 || uint64(len(key)-w) < n {
				return fmt.Errorf("the key's text is cut short")
			}
			c.AppendBytes(key[w : w+int(n)])
			key = key[w+int(n):]
			continue
		case len(key) < 8:
			return fmt.Errorf("the key's number is cut short")
		}
		bits := binary.LittleEndian.Uint64(key)
		key = key[8:]
		if c.Kind == row.Double {
			c.AppendDouble(math.Float64frombits(bits))
		} else {
			c.AppendInt(int64(bits))
		}
	}
	if len(key) != 0 {
		return fmt.Errorf("the key has more than its fields")
	}
	return nil
}

// EncodeOne takes the key of row i alone, which may lie past row.MaxRows.
func (k *Keys) EncodeOne(cols []*row.Column, i int) {
	k.Off, k.Data = append(k.Off[:0], 0), k.Data[:0]
	for _, c := range cols {
		k.Data = appendKey(k.Data, c, i)
	}
	k.Off = append(k.Off, uint32(len(k.Data)))
	k.Hash = append(k.Hash[:0], xxhash.Sum64(k.Data))
}
