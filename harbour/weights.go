package harbour

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math/big"
	"time"

	"github.com/hamba/avro/v2"

	"undertide/connect"
)

// The scales were given another schema an hour after a feed's beginning: lorry is called truck now, and the gate is said.
const (
	weightsBefore = `{"type":"record","name":"weight","fields":[{"name":"lorry","type":"string"},{"name":"tonnes","type":{"type":"bytes","logicalType":"decimal","precision":9,"scale":2}},{"name":"weighed_at","type":{"type":"long","logicalType":"timestamp-millis"}}]}`
	weightsNow    = `{"type":"record","name":"weight","fields":[{"name":"truck","type":"string","aliases":["lorry"]},{"name":"tonnes","type":{"type":"bytes","logicalType":"decimal","precision":9,"scale":2}},{"name":"weighed_at","type":{"type":"long","logicalType":"timestamp-millis"}},{"name":"gate","type":"string","default":"north"}]}`
	weightsTopic  = "weights"
)

// scales write weights as messages of Avro, by the schemas that a registry has.
type scales struct {
	schemas [2]avro.Schema
	ids     [2]int
	change  time.Time
}

// newScales registers both schemas.
func newScales(ctx context.Context, c *connect.Connection, begin time.Time) (*scales, error) {
	l, err := c.Look()
	if err != nil {
		return nil, err
	}
	defer l.Close()
	registry, err := connect.Can[connect.Schematic](c, l, "keep schemas")
	if err != nil {
		return nil, err
	}
	s := &scales{change: begin.Add(past / 2)}
	for i, text := range []string{weightsBefore, weightsNow} {
		if s.schemas[i], err = avro.ParseWithCache(text, "", &avro.SchemaCache{}); err != nil {
			return nil, err
		}
		kept, err := registry.Register(ctx, weightsTopic+"-value", text)
		if err != nil {
			return nil, err
		}
		s.ids[i] = kept.ID
	}
	return s, nil
}

// message writes a weight as the scales of its time do.
func (s *scales) message(event []byte) ([]byte, error) {
	var w struct {
		Truck, Gate, Tonnes string
		WeighedAt           int64 `json:"weighed_at"`
	}
	if err := json.Unmarshal(event, &w); err != nil {
		return nil, err
	}
	tonnes, ok := new(big.Rat).SetString(w.Tonnes)
	if !ok {
		return nil, fmt.Errorf("%q are no tonnes", w.Tonnes)
	}
	at := time.UnixMilli(w.WeighedAt).UTC()
	v := map[string]any{"lorry": w.Truck, "truck": w.Truck, "gate": w.Gate, "tonnes": tonnes, "weighed_at": at}
	n := 0
	if at.After(s.change) {
		n = 1
	}
	body, err := avro.Marshal(s.schemas[n], v)
	if err != nil {
		return nil, err
	}
	return append(binary.BigEndian.AppendUint32([]byte{0}, uint32(s.ids[n])), body...), nil
}
