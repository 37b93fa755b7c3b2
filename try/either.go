package try

import (
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// eitherDecoder takes events that are written by the names of the fields, and raw ones, which begin with
// a zero byte.
type eitherDecoder struct {
	fields, raw engine.Decoder
	one         engine.Chunk
	batch       *row.Batch
}

func (d *eitherDecoder) Decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	for i := range c.Starts {
		event, dec := c.Event(i), d.fields
		if len(event) > 0 && event[0] == 0 {
			event, dec = event[1:], d.raw
		}
		d.one.Reset()
		d.one.Raw, d.one.Starts, d.one.Ends, d.one.Header = append(d.one.Raw, event...), []uint32{0}, []uint32{uint32(len(event))}, c.Header
		if d.batch == nil {
			d.batch = row.NewBatch(b.Schema)
		}
		d.batch.Reset()
		before := len(rejects)
		rejects = dec.Decode(&d.one, d.batch, rejects)
		for r := range rejects[before:] {
			rejects[before+r].Index = uint16(i)
		}
		if d.batch.N == 0 {
			continue
		}
		for n, f := range b.Schema {
			if !f.Hidden {
				b.Cols[n].AppendFrom(d.batch.Cols[n], 0)
			}
		}
		b.Index = append(b.Index, uint16(i))
		b.N++
	}
	return rejects
}
