package site

import (
	"context"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
)

type plain struct{ Site }

type door struct{ plain }

func (door) ServeDoor(context.Context, string, net.Listener) error { return nil }

// masked is a site around another, some of whose abilities it does not pass on.
type masked struct{ door }

func (m masked) Abilities() Abilities {
	a := Can(m.door)
	a.Doors = nil
	return a
}

func TestWhatASiteCan(t *testing.T) {
	assert.Equal(t, Abilities{}, Can(plain{}), "an embedded site gives no ability by itself")
	d := door{}
	assert.Equal(t, Abilities{Doors: d}, Can(d))
	assert.Equal(t, Abilities{}, Can(masked{d}))
}
