package run

import (
	"undertide/checkpoint"
	"undertide/connect/formats/ndjson"
	"undertide/core/engine"
	"undertide/core/row"
)

// ErrDamaged is wrapped where no checkpoint verifies: trying again cannot help.
var ErrDamaged = checkpoint.ErrDamaged

// ErrFormat is wrapped where another version of Under Tide made the checkpoints; neither can it help then.
var ErrFormat = checkpoint.ErrFormat

// TextOf makes an encoder of rows as JSON, one a line, for those who look at rows.
func TextOf(s row.Schema) engine.Encoder { return ndjson.NewEncoder(s) }
