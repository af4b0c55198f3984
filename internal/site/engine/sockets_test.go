package engine

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whose sockets are gone is told by the folder of a workspace's own; a label that is a path leads nowhere.
func TestWhoIsCutOff(t *testing.T) {
	s := newSite(t, "testcut", t.TempDir())
	assert.True(t, s.cutOff(true, "w1"))
	assert.False(t, s.cutOff(false, "w1"), "its sockets are not in a folder")
	require.NoError(t, os.MkdirAll(s.socketFolder("w1"), 0o700))
	assert.False(t, s.cutOff(true, "w1"))
	for _, label := range []string{"../w1", "w1/../w2", "/etc/w1", "w1/"} {
		assert.False(t, s.cutOff(true, label), label)
	}
}
