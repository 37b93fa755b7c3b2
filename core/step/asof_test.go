package step

import (
	"slices"
	"testing"

	"undertide/core/row"
	"undertide/core/state"
)

// TestInspectVersions: whoever looks into a lookup as of event time sees each version with its key, since when it holds, and
// its columns.
func TestInspectVersions(t *testing.T) {
	d := &AsOf{Fields: 1, Keys: Spec{Key: []int{0}, KeepNull: true, Input: row.Schema{{Name: "berth", Kind: row.String}, {Name: "depth", Kind: row.Int}, SideField}}}
	x := Inspect(d, d.Tables()[0], false, nil)
	if got := x.Schema.Names(); !slices.Equal(got, []string{"berth", "since", "depth"}) {
		t.Errorf("a version is shown as %v", got)
	}
	c := state.NewChanges(d.Tables()[0])
	var k state.Keys
	berth := row.NewColumn(row.String)
	berth.AppendString("B1")
	k.EncodeOne([]*row.Column{berth}, 0)
	c.Put(k.Bytes(0), k.Hash[0], 0, 7_000_000, 1)[0].AppendInt(9)
	b := row.NewBatch(x.Schema)
	if err := x.Append(b, c.New[0]); err != nil {
		t.Fatal(err)
	}
	if string(b.Cols[0].Bytes(0)) != "B1" || b.Cols[1].I[0] != 7_000_000 || b.Cols[2].I[0] != 9 {
		t.Errorf("the version is shown as %v, %v, %v", string(b.Cols[0].Bytes(0)), b.Cols[1].I, b.Cols[2].I)
	}
}
