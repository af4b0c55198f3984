package agent_test

import (
	"bufio"
	"bytes"
	"io"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/agent/wire"
)

// Who only looks sees what is there and what comes, and the size; leaves no trace; and is told the end.
func TestLookingAtATerminal(t *testing.T) {
	link := configured(t)
	_, err := link.Look(t.Context(), "chart")
	assert.ErrorContains(t, err, `no terminal "chart" is open`)
	own, err := link.Terminal(t.Context(), "chart", 100, 30)
	require.NoError(t, err)
	defer own.Close()
	seen := bufio.NewReader(own)
	until := func(r *bufio.Reader, mark string) string {
		t.Helper()
		var all []byte
		for !bytes.HasSuffix(all, []byte(mark)) {
			b, err := r.ReadByte()
			require.NoError(t, err, "after %d bytes", len(all))
			all = append(all, b)
		}
		return string(all)
	}
	_, err = io.WriteString(own, "echo fathom''s; stty size\n")
	require.NoError(t, err)
	until(seen, "30 100")

	other := connect(t)
	looked, err := other.Look(t.Context(), "chart")
	require.NoError(t, err)
	looker := bufio.NewReader(looked)
	until(looker, "fathoms")
	until(looker, "30 100")
	size := func() wire.WindowSize {
		select {
		case s := <-looked.Sizes():
			return s
		case <-time.After(10 * time.Second):
			return wire.WindowSize{}
		}
	}
	assert.Equal(t, wire.WindowSize{Columns: 100, Rows: 30}, size())
	require.NoError(t, own.Resize(120, 40))
	assert.Equal(t, wire.WindowSize{Columns: 120, Rows: 40}, size())
	list, err := link.Terminals(t.Context())
	require.NoError(t, err)
	for _, x := range list {
		if x.Name == "chart" {
			assert.Equal(t, 1, x.Attached, "who looks is not attached")
		}
	}
	_, err = io.WriteString(own, "stty size; echo deep''er\n")
	require.NoError(t, err)
	assert.Contains(t, until(looker, "deeper"), "40 120")

	// One who looks and takes nothing does not hold the program up, however much it prints.
	idle, err := connect(t).Look(t.Context(), "chart")
	require.NoError(t, err)
	defer idle.Close()
	begun := make(chan struct{})
	go func() {
		defer close(begun)
		_, _ = io.Copy(io.Discard, looker)
	}()
	_, err = io.WriteString(own, "head -c 2000000 /dev/zero | tr '\\0' x; echo; echo all''of it; exit 3\n")
	require.NoError(t, err)
	until(seen, "allof it")
	<-begun
	assert.ErrorContains(t, looked.Wait(), "3")
}

// Of two at one terminal the size of the last to change theirs counts, and goes back to the one who stays. A program is
// told to draw again when somebody comes back with the same size.
func TestSizesOfATerminal(t *testing.T) {
	link := configured(t)
	own, err := link.Terminal(t.Context(), "wheel", 100, 30)
	require.NoError(t, err)
	defer own.Close()
	seen := bufio.NewReader(own)
	until := func(r *bufio.Reader, mark string) {
		t.Helper()
		var all []byte
		for !bytes.HasSuffix(all, []byte(mark)) {
			b, err := r.ReadByte()
			require.NoError(t, err, "after %q", all)
			all = append(all, b)
		}
	}
	program := `exec python3 -c "
import os, signal, time
def told(*_): print('size', *os.get_terminal_size(0), 'to' + 'ld', flush=True)
signal.signal(signal.SIGWINCH, told)
print('rea' + 'dy', flush=True)
time.sleep(60)"
`
	_, err = io.WriteString(own, program)
	require.NoError(t, err)
	until(seen, "ready")
	other := connect(t)
	second, err := other.Terminal(t.Context(), "wheel", 60, 20)
	require.NoError(t, err)
	until(seen, "size 60 20 told")
	require.NoError(t, second.Close())
	until(seen, "size 100 30 told")

	third, err := connect(t).Terminal(t.Context(), "wheel", 100, 30)
	require.NoError(t, err)
	defer third.Close()
	until(seen, "size 100 30 told")
	_, err = io.WriteString(third, "\x03") // it is over
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		list, err := link.Terminals(t.Context())
		require.NoError(t, err)
		return !slices.ContainsFunc(list, func(x wire.Terminal) bool { return x.Name == "wheel" })
	}, 10*time.Second, 5*time.Millisecond)
}
