//go:build checks

package row

// poison overwrites what a column holds as its owner takes it back, so that whoever still reads it gives
// wrong rows, which the tests notice (core/step, "Who owns a view").
func (c *Column) poison() {
	for i := range c.I {
		c.I[i] = -1 << 40
	}
	for i := range c.F {
		c.F[i] = -1e300
	}
	for i := range c.Data {
		c.Data[i] = '~'
	}
}

func (b *Batch) poison() {
	for i := range b.Index {
		b.Index[i] = MaxRows - 1
	}
	for i := range b.Times {
		b.Times[i] = -1 << 50
	}
}

// TakeBack overwrites the column's values under the build tag `checks`: its owner says that nobody may read
// them any more.
func (c *Column) TakeBack() { c.poison() }
