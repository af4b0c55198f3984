package agent

import (
	"encoding/binary"
	"testing"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// modes writes modes as a client sends them.
func modes(pairs ...uint32) (b []byte) {
	for i := 0; i+1 < len(pairs); i += 2 {
		b = binary.BigEndian.AppendUint32(append(b, byte(pairs[i])), pairs[i+1])
	}
	return append(b, 0)
}

func TestModesOfATerminal(t *testing.T) {
	master, slave, err := pty.Open()
	require.NoError(t, err)
	defer master.Close()
	defer slave.Close()
	before, err := unix.IoctlGetTermios(int(slave.Fd()), unix.TCGETS)
	require.NoError(t, err)
	require.NotZero(t, before.Lflag&unix.ECHO)
	// Erase is Ctrl-H, there is no character for quitting, nothing is echoed, UTF-8 is on.
	require.NoError(t, setModes(slave, modes(3, 8, 2, 255, 53, 0, 42, 1, 128, 38400)))
	after, err := unix.IoctlGetTermios(int(slave.Fd()), unix.TCGETS)
	require.NoError(t, err)
	assert.Equal(t, uint8(8), after.Cc[unix.VERASE])
	assert.Zero(t, after.Cc[unix.VQUIT])
	assert.Zero(t, after.Lflag&unix.ECHO)
	assert.NotZero(t, after.Iflag&unix.IUTF8)
	assert.Equal(t, before.Lflag&^unix.ECHO, after.Lflag, "the rest is as it was")
	for _, bad := range [][]byte{nil, {0}, {3}, {3, 0, 0}, {200, 0, 0, 0, 1}} {
		assert.NoError(t, setModes(slave, bad))
	}
}
