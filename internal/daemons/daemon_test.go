package daemons

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What did not get to run can be stopped: why it did not is told by who started it, and
// must not be hidden by a stack.
func TestStoppingWhatDidNotStart(t *testing.T) {
	assert.NotPanics(t, func() {
		(&Postgres{}).Stop()
		(&Engine{Host: "unix:///nowhere.sock"}).Close()
	})
}
