//go:build linux

package handed

import (
	"bufio"
	"io"
	"net"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// quay is a terminal that was handed over, with all that who did so still has.
type quay struct {
	*Terminal
	room    *Room
	slave   *os.File // the program's end
	master  int      // the giver's own
	pipe    int      // the same
	service *net.UnixConn
	giver   *net.UnixConn
}

// raw is the descriptor of a file, which stays as it is.
func raw(t testing.TB, f *os.File) int {
	t.Helper()
	fd := -1
	c, err := f.SyscallConn()
	require.NoError(t, err)
	require.NoError(t, c.Control(func(n uintptr) { fd = int(n) }))
	return fd
}

func duplicate(t testing.TB, fd int) int {
	t.Helper()
	other, err := unix.FcntlInt(uintptr(fd), unix.F_DUPFD_CLOEXEC, 0)
	require.NoError(t, err)
	return other
}

// openTerminal opens one that passes on what it is told, unchanged.
func openTerminal(t testing.TB) (master, slave *os.File) {
	t.Helper()
	master, slave, err := pty.Open()
	require.NoError(t, err)
	t.Cleanup(func() { master.Close(); slave.Close() })
	mode, err := unix.IoctlGetTermios(raw(t, slave), unix.TCGETS)
	require.NoError(t, err)
	mode.Lflag &^= unix.ICANON | unix.ECHO | unix.ISIG
	mode.Oflag &^= unix.OPOST
	require.NoError(t, unix.IoctlSetTermios(raw(t, slave), unix.TCSETS, mode))
	return master, slave
}

// bothWays is a pipe to read and to write.
func bothWays(t testing.TB) int {
	t.Helper()
	r, w, err := os.Pipe()
	require.NoError(t, err)
	defer r.Close()
	defer w.Close()
	fd, err := unix.Open("/proc/self/fd/"+strconv.Itoa(raw(t, r)), unix.O_RDWR|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	require.NoError(t, err)
	return fd
}

func newQuay(t testing.TB) *quay {
	t.Helper()
	q := &quay{room: &Room{}, pipe: bothWays(t)}
	master, slave := openTerminal(t)
	q.slave, q.master = slave, duplicate(t, raw(t, master))
	require.NoError(t, master.Close())
	t.Cleanup(func() { unix.Close(q.master); unix.Close(q.pipe) })
	q.giver, q.service = sockets(t)
	require.NoError(t, Give(q.giver, []byte("t"), q.master, q.pipe))
	fds, err := Take(q.service, make([]byte, 1), 2)
	require.NoError(t, err)
	q.Terminal, err = q.room.Enter(1).Terminal(fds)
	require.NoError(t, err)
	return q
}

func (q *quay) prints(t testing.TB, text string) {
	t.Helper()
	_, err := io.WriteString(q.slave, text)
	require.NoError(t, err)
}

func (q *quay) reads(t testing.TB) string {
	t.Helper()
	b, err := q.Read(make([]byte, Longest))
	require.NoError(t, err)
	return string(b)
}

func TestATerminalIsTypedAndRead(t *testing.T) {
	q := newQuay(t)
	_, err := q.Write([]byte("k"))
	require.NoError(t, err)
	b := make([]byte, 10)
	n, err := q.slave.Read(b)
	require.NoError(t, err)
	assert.Equal(t, "k", string(b[:n]))

	for _, word := range []string{"high", "tide", "at", "noon"} {
		q.prints(t, word)
		assert.Equal(t, word, q.reads(t))
	}
	require.NoError(t, q.Settle(q.service))
	q.prints(t, "!")
	assert.Equal(t, "!", q.reads(t))
	q.GiveBack(q.service)
	whole, err := io.ReadAll(q.giver)
	require.NoError(t, err)
	assert.Equal(t, "hightideatnoon!", string(whole), "who handed it over knows all that was printed")
	emptied(t, q.room)
	_, err = q.Read(b)
	assert.ErrorIs(t, err, os.ErrClosed)
	_, err = q.Write(b)
	assert.ErrorIs(t, err, os.ErrClosed)
}

// However it is printed, and whenever it is given back, all of it comes to both, in order.
func TestAllThatATerminalPrints(t *testing.T) {
	q := newQuay(t)
	const lines = 20000
	go func() {
		w := bufio.NewWriterSize(q.slave, 700)
		for i := range lines {
			_, _ = io.WriteString(w, strconv.Itoa(i)+"\n")
			if i%7 == 0 {
				_ = w.Flush()
			}
		}
		_ = w.Flush()
		q.slave.Close()
	}()
	given := make(chan string, 1)
	go func() {
		b, _ := io.ReadAll(q.giver)
		given <- string(b)
	}()
	var printed []byte
	b := make([]byte, Longest)
	for {
		some, err := q.Read(b)
		if err != nil {
			break // the program has ended
		}
		printed = append(printed, some...)
		if q.Full() {
			require.NoError(t, q.Settle(q.service))
		}
	}
	q.GiveBack(q.service)
	var want []byte
	for i := range lines {
		want = append(want, strconv.Itoa(i)+"\n"...)
	}
	assert.Equal(t, string(want), string(printed))
	assert.Equal(t, string(want), <-given)
}

// Where the service is killed, what it has read is in the pipe.
func TestNothingIsLostWithTheService(t *testing.T) {
	q := newQuay(t)
	q.prints(t, "ahoy")
	assert.Equal(t, "ahoy", q.reads(t))
	b := make([]byte, 10)
	n, err := unix.Read(q.pipe, b)
	require.NoError(t, err)
	assert.Equal(t, "ahoy", string(b[:n]))
}

func TestWhatIsNoTerminal(t *testing.T) {
	file, err := os.Create(t.TempDir() + "/file")
	require.NoError(t, err)
	defer file.Close()
	null, err := os.Open("/dev/null")
	require.NoError(t, err)
	defer null.Close()
	r, w, err := os.Pipe()
	require.NoError(t, err)
	defer r.Close()
	defer w.Close()
	master, slave := openTerminal(t)
	pipe := bothWays(t)
	defer unix.Close(pipe)
	pathOnly, err := unix.Open("/dev/ptmx", unix.O_PATH|unix.O_CLOEXEC, 0)
	require.NoError(t, err)
	defer unix.Close(pathOnly)
	m := raw(t, master)
	for name, fds := range map[string][]int{
		"the program's end":       {raw(t, slave), pipe},
		"another device":          {raw(t, null), pipe},
		"a file":                  {raw(t, file), pipe},
		"a pipe alone":            {pipe, pipe},
		"no more than its name":   {pathOnly, pipe},
		"a file for the pipe":     {m, raw(t, file)},
		"the pipe's end to read":  {m, raw(t, r)},
		"the pipe's end to write": {m, raw(t, w)},
		"a terminal for the pipe": {m, m},
		"a terminal alone":        {m},
	} {
		t.Run(name, func(t *testing.T) {
			var room Room
			var own []int
			for _, fd := range fds {
				own = append(own, duplicate(t, fd))
			}
			_, err := room.Enter(1).Terminal(own)
			assert.ErrorIs(t, err, errOther)
			emptied(t, &room)
		})
	}
}

// Who handed a terminal over may have a Read wait for ever: nobody else does, and its place stays taken.
func TestWhoHandsATerminalOverHasCallsWait(t *testing.T) {
	q := newQuay(t)
	require.NoError(t, unix.SetNonblock(q.master, false))
	read := make(chan error, 1)
	go func() {
		_, err := q.Read(make([]byte, Longest))
		read <- err
	}()
	_, err := q.Write([]byte("k")) // which may wake it
	require.NoError(t, err)
	q.GiveBack(q.service)
	_, err = q.giver.Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF, "the stream has ended")
	require.NoError(t, q.slave.Close())
	require.Error(t, <-read)
	emptied(t, q.room)
}

// Who takes from the pipe what the service has not given back yet gets no more from it.
func TestWhoHandsATerminalOverTakesFromThePipe(t *testing.T) {
	q := newQuay(t)
	q.prints(t, "ahoy")
	assert.Equal(t, "ahoy", q.reads(t))
	_, err := unix.Read(q.pipe, make([]byte, 10))
	require.NoError(t, err)
	q.prints(t, "!")
	_, err = q.Read(make([]byte, Longest))
	assert.ErrorContains(t, err, "where others may read")
	q.GiveBack(q.service)
	emptied(t, q.room)
}

// Who does not take back what was printed holds up nobody but who waits for that, until that is given up.
func TestWhoHandsATerminalOverTakesNothingBack(t *testing.T) {
	q := newQuay(t)
	require.NoError(t, q.service.SetWriteBuffer(1)) // as little as there can be
	settled := make(chan error, 1)
	go func() {
		for {
			if _, err := q.slave.Write(make([]byte, 1<<10)); err != nil {
				return
			}
		}
	}()
	go func() {
		for b := make([]byte, Longest); ; {
			if _, err := q.Read(b); err != nil {
				settled <- err
				return
			}
			if err := q.Settle(q.service); err != nil {
				settled <- err
				return
			}
		}
	}()
	q.GiveBack(q.service)
	require.Error(t, <-settled)
	emptied(t, q.room)
}

// A terminal in which nothing happens is given back after a while, and one that is used is not.
func TestAnIdleTerminal(t *testing.T) {
	q := newQuay(t)
	_, err := q.Write([]byte("k"))
	require.NoError(t, err)
	assert.True(t, q.Idle(time.Millisecond), "it was used before")
	_, err = q.Read(make([]byte, Longest))
	require.ErrorIs(t, err, os.ErrDeadlineExceeded)
	assert.False(t, q.Idle(time.Hour))
	q.Interrupt()
	q.Idle(time.Hour)
	_, err = q.Read(make([]byte, Longest))
	require.ErrorIs(t, err, os.ErrDeadlineExceeded, "what was interrupted stays so")
	q.GiveBack(q.service)
	emptied(t, q.room)
}
