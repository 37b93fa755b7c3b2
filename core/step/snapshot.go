package step

import (
	"errors"
	"fmt"

	"undertide/core/row"
	"undertide/core/state"
)

// errState: the tables of a step's state do not fit together.
var errState = errors.New("the state of the step is damaged")

// stateKey gives the first columns of every table of state: the share, and the key fields, whose names
// begin with key_ so that they are no others.
func (s *Spec) stateKey() row.Schema {
	out := row.Schema{{Name: "share", Kind: row.Int}}
	for _, f := range s.KeySchema() {
		out = append(out, row.Field{Name: "key_" + f.Name, Kind: f.Kind})
	}
	return out
}

// byShare gives the keys of a dictionary by their share.
func byShare(d *state.Dict) [][]uint32 {
	out := make([][]uint32, state.Shares)
	for id := range uint32(d.Len()) {
		share := state.ShareOf(d.Hash(id))
		out[share] = append(out[share], id)
	}
	return out
}

// saveKey appends the share and the key fields, the first columns of every table of state.
func saveKey(b *row.Batch, share, keys int, d *state.Dict, id uint32) {
	b.Cols[0].AppendInt(int64(share))
	if err := state.AppendKey(b.Cols[1:1+keys], d.Key(id)); err != nil {
		panic("a key of the dictionary cannot be read: " + err.Error()) // ours alone wrote it
	}
}

// loadRows hands the rows of a table whose share belongs to the lane to take, with the number that
// their key has in the dictionary.
func loadRows(b *row.Batch, want row.Schema, keys, lane, lanes int, d *state.Dict, take func(i int, id uint32) error) error {
	if len(b.Cols) != len(want) {
		return fmt.Errorf("the state has %d columns, the step %d: the document has changed", len(b.Cols), len(want))
	}
	for i, f := range want {
		if b.Schema[i] != f {
			return fmt.Errorf("the state has column %s %s where the step has %s %s: the document has changed", b.Schema[i].Name, b.Schema[i].Kind, f.Name, f.Kind)
		}
	}
	var k state.Keys
	for i := range b.N {
		share := b.Cols[0].I[i]
		if share < 0 || share >= state.Shares {
			return fmt.Errorf("row %d of the state has share %d, which is not one of %d", i, share, state.Shares)
		}
		if state.LaneOf(uint8(share), lanes) != lane {
			continue
		}
		k.EncodeOne(b.Cols[1:1+keys], i)
		if state.ShareOf(k.Hash[0]) != uint8(share) {
			return fmt.Errorf("row %d of the state has share %d, its key share %d", i, share, state.ShareOf(k.Hash[0]))
		}
		if err := take(i, d.Put(k.Bytes(0), k.Hash[0])); err != nil {
			return err
		}
	}
	return nil
}
