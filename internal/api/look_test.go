package api

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"

	"domicile/internal/agent/wire"
)

// An agent that lies does not have a page make room for four thousand million lines.
func TestDrawableSizes(t *testing.T) {
	for said, shown := range map[wire.WindowSize][2]uint32{
		{Columns: 80, Rows: 24}: {80, 24}, {}: {2, 1}, {Columns: math.MaxUint32, Rows: math.MaxUint32}: {500, 500}, {Columns: 300, Rows: 1 << 20}: {300, 500},
	} {
		got := drawable(said)
		assert.Equal(t, shown, [2]uint32{got["columns"], got["rows"]}, said)
	}
}
