package channel

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/iotest"
	"time"

	"github.com/hashicorp/yamux"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

// port is a serial port as a machine's host has it: whoever connects last has it, and what the
// machine writes while nobody has is lost.
type port struct {
	machine net.Conn // the host's end of what the machine has

	mu     sync.Mutex
	holder net.Conn
}

func newPort(t *testing.T) (p *port, inside net.Conn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	inside, err = net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	p = &port{}
	p.machine, err = l.Accept()
	require.NoError(t, err)
	t.Cleanup(func() { p.machine.Close(); inside.Close() })
	go func() {
		b := make([]byte, 32<<10)
		for {
			n, err := p.machine.Read(b)
			if err != nil {
				return
			}
			p.mu.Lock()
			holder := p.holder
			p.mu.Unlock()
			if holder != nil {
				_, _ = holder.Write(b[:n])
			}
		}
	}()
	return p, inside
}

// connect takes the port from whoever had it.
func (p *port) connect(t *testing.T) net.Conn {
	t.Helper()
	mine, its := net.Pipe()
	p.mu.Lock()
	if p.holder != nil {
		p.holder.Close()
	}
	p.holder = its
	p.mu.Unlock()
	go func() { _, _ = io.Copy(p.machine, its) }()
	t.Cleanup(func() { mine.Close() })
	return mine
}

// machine serves sessions at the other ends of two ports; a word is answered with itself and
// what is sent behind it.
func machine(t *testing.T) (control, data *port) {
	t.Helper()
	control, inControl := newPort(t)
	data, inData := newPort(t)
	go func() {
		_ = Serve(inControl, inData, func(ctx context.Context, to string, stream net.Conn) {
			switch to {
			case "hold": // and looks at nothing of the stream
				<-ctx.Done()
				return
			case "open": // as no machine of ours does
				s := stream.(*yamux.Stream).Session()
				_, _ = s.Open()
				<-ctx.Done()
				return
			case "ping":
				_, _ = stream.(*yamux.Stream).Session().Ping()
				<-ctx.Done()
				return
			}
			_, _ = io.WriteString(stream, to+" ")
			_, _ = io.Copy(stream, stream)
		})
	}()
	return control, data
}

func ask(t *testing.T, l interface {
	Dial(ctx context.Context, to string) (net.Conn, error)
}, to, text string) string {
	t.Helper()
	stream, err := l.Dial(t.Context(), to)
	require.NoError(t, err)
	defer stream.Close()
	_, err = io.WriteString(stream, text)
	require.NoError(t, err)
	answer := make([]byte, len(to)+1+len(text))
	_, err = io.ReadFull(stream, answer)
	require.NoError(t, err)
	return string(answer)
}

func TestASession(t *testing.T) {
	l, err := open(t)
	require.NoError(t, err)
	defer l.Close()
	assert.Equal(t, "engine tide", ask(t, l, "engine", "tide"))
	big := strings.Repeat("flood ", 1<<18)
	assert.Equal(t, "engine "+big, ask(t, l, "engine", big))
}

// Whatever an earlier session left on the ports, the next one begins.
func TestAnotherSession(t *testing.T) {
	control, data := machine(t)
	for range 3 {
		l, err := Open(t.Context(), control.connect(t), data.connect(t))
		require.NoError(t, err)
		assert.Equal(t, "engine tide", ask(t, l, "engine", "tide"))
		held, err := l.Dial(t.Context(), "hold")
		require.NoError(t, err)
		_, err = held.Write(make([]byte, 1000)) // and is gone: nothing was ended
		require.NoError(t, err)
		_, err = io.WriteString(control.connect(t), "begin so") // cut off
		require.NoError(t, err)
		_, err = io.WriteString(data.connect(t), "what was under way")
		require.NoError(t, err)
	}
}

// A machine at rest has nothing of a session, and begins the next one.
func TestAMachineAtRest(t *testing.T) {
	control, data := machine(t)
	l, err := Open(t.Context(), control.connect(t), data.connect(t))
	require.NoError(t, err)
	_, err = l.Dial(t.Context(), "hold")
	require.NoError(t, err)
	require.NoError(t, l.Rest(t.Context()))
	<-l.Over()
	_, err = l.Dial(t.Context(), "engine")
	require.Error(t, err)
	l, err = Open(t.Context(), control.connect(t), data.connect(t))
	require.NoError(t, err)
	defer l.Close()
	assert.Equal(t, "engine tide", ask(t, l, "engine", "tide"))
}

// A machine that opens streams, or wants its pings answered, is left: what it could send so has
// no end.
func TestAMachineThatSendsWhatIsNotItsToSend(t *testing.T) {
	for _, word := range []string{"open", "ping"} {
		l, err := open(t)
		require.NoError(t, err)
		_, _ = l.Dial(t.Context(), word) // which may be told of it already
		select {
		case <-l.Over():
		case <-time.After(5 * time.Second):
			t.Error(word, "ends the session")
		}
		l.Close()
	}
}

// Frames are judged wherever their parts come apart.
func FuzzFramesComeApart(f *testing.F) {
	f.Add([]byte{0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 3, 'a', 'b', 'c', 0, 1, 0, 2, 0, 0, 0, 1, 0, 0, 0, 9})
	f.Add([]byte{0, 2, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, sent []byte) {
		whole, wholeErr := io.ReadAll(&judged{r: bytes.NewReader(sent)})
		parts, partsErr := io.ReadAll(&judged{r: iotest.OneByteReader(bytes.NewReader(sent))})
		assert.Equal(t, wholeErr == nil, partsErr == nil)
		if wholeErr == nil {
			assert.Equal(t, sent, append([]byte{}, whole...))
			assert.Equal(t, whole, parts)
		}
	})
}

// A machine that does not answer is left when who asks has no more time.
func TestAMachineThatIsSilent(t *testing.T) {
	control, _ := newPort(t)
	data, _ := newPort(t)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err := Open(ctx, control.connect(t), data.connect(t))
	require.Error(t, err)
}

func TestLinesOfAStream(t *testing.T) {
	line, err := firstLine(strings.NewReader("engine\nGET /"))
	require.NoError(t, err)
	assert.Equal(t, "engine", line)
	_, err = firstLine(strings.NewReader(strings.Repeat("x", 1000)))
	require.ErrorIs(t, err, errLong)
	_, err = firstLine(strings.NewReader("cut"))
	require.Error(t, err)
}

func open(t *testing.T) (*Line, error) {
	control, data := machine(t)
	return Open(t.Context(), control.connect(t), data.connect(t))
}

// Who has the session with a machine lends it to the others, and only as long as it lasts.
func TestASessionThatIsLent(t *testing.T) {
	l, err := open(t)
	require.NoError(t, err)
	defer l.Close()
	socket := filepath.Join(t.TempDir(), "line.sock")
	lends, err := Lend(socket, l)
	require.NoError(t, err)
	info, err := os.Stat(socket)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
	b := Borrowed{Socket: socket}
	assert.True(t, b.Lent())
	big := strings.Repeat("flood ", 1<<18)
	assert.Equal(t, "engine "+big, ask(t, b, "engine", big))
	assert.Equal(t, "engine tide", ask(t, l, "engine", "tide"), "who lends has it, too")
	long, err := b.Dial(t.Context(), strings.Repeat("x", 10_000))
	if err == nil { // it may be cut off while it writes
		_, err = io.ReadAll(long)
		long.Close()
	}
	assert.True(t, err == nil || errors.Is(err, syscall.EPIPE) || errors.Is(err, syscall.ECONNRESET), "%v", err)
	require.NoError(t, lends.Close())
	_, err = b.Dial(t.Context(), "echo")
	assert.True(t, fault.IsTransient(err), "nobody lends any more: %v", err)
	assert.NoFileExists(t, socket)
	assert.False(t, b.Lent())
	dead, err := net.ListenUnix("unix", &net.UnixAddr{Name: socket, Net: "unix"})
	require.NoError(t, err)
	dead.SetUnlinkOnClose(false)
	require.NoError(t, dead.Close())
	assert.False(t, b.Lent(), "one that was killed left its socket")

	first, err := Lend(socket, l)
	require.NoError(t, err)
	_, err = Lend(socket, l)
	require.NoError(t, err, "what another one left there is replaced")
	require.NoError(t, first.Close())
	assert.Equal(t, "engine tide", ask(t, b, "engine", "tide"), "who ends late leaves it alone")
	l.Close()
	require.Eventually(t, func() bool { _, err := os.Lstat(socket); return os.IsNotExist(err) }, 5*time.Second, 5*time.Millisecond, "it goes with the session")
}
