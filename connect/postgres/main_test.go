package postgres

import (
	"testing"

	"undertide/leak"
)

func TestMain(m *testing.M) { leak.Main(tests{m}) }
