package ndjson

import (
	"testing"

	"undertide/leak"
)

func TestMain(m *testing.M) { leak.Main(m) }
