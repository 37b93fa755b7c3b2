package row

import "sync"

// Columns that have one value in each of MaxRows rows. They are made once and read by all; nobody may write to them.
var constants sync.Map // from constant to *Column

type constant struct {
	kind Kind
	text string
	null bool
}

func constantOf(c constant) *Column {
	if col, ok := constants.Load(c); ok {
		return col.(*Column)
	}
	col := NewColumn(c.kind)
	for range MaxRows {
		if c.null {
			col.AppendNull()
		} else {
			col.AppendString(c.text)
		}
	}
	made, _ := constants.LoadOrStore(c, col)
	return made.(*Column)
}

// Nulls gives a column of nulls.
func Nulls(k Kind) *Column { return constantOf(constant{kind: k, null: true}) }

// Same gives a column of kind String that holds a text.
func Same(text string) *Column { return constantOf(constant{kind: String, text: text}) }
