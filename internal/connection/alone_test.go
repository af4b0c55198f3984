package connection

import (
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"domicile/internal/handed"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"
)

// sockets are two ends of a socket of this machine.
func sockets(t testing.TB) (near, far net.Conn) {
	t.Helper()
	l, err := net.Listen("unix", filepath.Join(t.TempDir(), "s"))
	require.NoError(t, err)
	defer l.Close()
	near, err = net.Dial("unix", l.Addr().String())
	require.NoError(t, err)
	far, err = l.Accept()
	require.NoError(t, err)
	t.Cleanup(func() { near.Close(); far.Close() })
	return near, far
}

type met struct {
	peer  Peer
	alone *Alone
	err   error
}

func accept(t testing.TB, far net.Conn, key ssh.Signer) chan met {
	heard := make(chan met, 1)
	config := config(t, key)
	go func() {
		p, a, err := Accept(far, config, key.PublicKey())
		heard <- met{p, a, err}
	}()
	return heard
}

// dialAlone asks for one thing alone, and gives the descriptor that came.
func dialAlone(t testing.TB, stream net.Conn, key ssh.Signer) (int, error) {
	t.Helper()
	var room handed.Room
	fds, err := DialAlone(stream, key, "direct-tcpip", []byte("quay:80"), room.Enter(1), 1)
	if err != nil {
		return -1, err
	}
	require.Len(t, fds, 1)
	t.Cleanup(func() { unix.Close(fds[0]) })
	return fds[0], nil
}

// Asking for one thing alone gives what the agent has opened for it.
func TestOneThingAlone(t *testing.T) {
	key := signer(t)
	near, far := sockets(t)
	heard := accept(t, far, key)
	read, write, err := os.Pipe()
	require.NoError(t, err)
	defer read.Close()
	granted := make(chan error, 1)
	go func() {
		m := <-heard
		assert.Equal(t, "direct-tcpip quay:80", m.alone.Kind+" "+string(m.alone.Extra))
		granted <- handed.WithDescriptor(write, m.alone.Grant)
		write.Close()
	}()
	fd, err := dialAlone(t, Private(near), key)
	require.NoError(t, err)
	require.NoError(t, <-granted)
	_, err = unix.Write(fd, []byte("ahoy"))
	require.NoError(t, err)
	b := make([]byte, 4)
	_, err = io.ReadFull(read, b)
	require.NoError(t, err)
	assert.Equal(t, "ahoy", string(b))
}

func TestOneThingIsRefused(t *testing.T) {
	key := signer(t)
	near, far := sockets(t)
	heard := accept(t, far, key)
	refused := make(chan error, 1)
	go func() { refused <- (<-heard).alone.Reject(ssh.ConnectionFailed, "nobody is at the quay") }()
	_, err := dialAlone(t, Private(near), key)
	var told *ssh.OpenChannelError
	require.ErrorAs(t, err, &told)
	assert.Equal(t, ssh.OpenChannelError{Reason: ssh.ConnectionFailed, Message: "nobody is at the quay"}, *told)
	require.NoError(t, <-refused)
	_, err = near.Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF, "the stream has ended")
}

// Where there is no socket between the two, or the agent knows of no such streams, all goes together.
func TestAllGoesTogether(t *testing.T) {
	key := signer(t)
	near, _ := stream(t)
	_, err := dialAlone(t, Private(near), key)
	assert.ErrorIs(t, err, ErrTogether)
	near, _ = sockets(t)
	_, err = dialAlone(t, near, key)
	assert.ErrorIs(t, err, ErrTogether, "a stream that is not known to be private")
	near, far := sockets(t)
	go func() { _, _ = io.WriteString(far, "SSH-2.0-quay "+framesWord+strings.Repeat("A", 43)+"\r\n") }()
	_, err = dialAlone(t, Private(near), key)
	assert.ErrorIs(t, err, ErrTogether, "an agent of an earlier version")

	near, far = sockets(t)
	granting := far
	asked := accept(t, granting, key)
	go func() {
		<-asked
		_, _ = granting.Write(make([]byte, 4))
	}()
	_, err = dialAlone(t, Private(near), key)
	assert.ErrorIs(t, err, ErrTogether, "it grants, and nothing is handed over: a machine may forbid that")

	// And that does not end what goes together with an agent that knows more.
	near, far = sockets(t)
	heard := accept(t, far, key)
	p, err := Dial(Private(near), key)
	require.NoError(t, err)
	defer p.Close()
	m := <-heard
	require.NoError(t, m.err)
	assert.Nil(t, m.alone)
	m.peer.Close()
}

// Whoever is in the agent's place is heard so far, and not beyond.
func TestWhoAnswersForOneThing(t *testing.T) {
	key := signer(t)
	for name, says := range map[string]string{
		"more than a greeting":   " alone " + framesWord + strings.Repeat("A", 43) + "\r\nand a welcome",
		"a refusal without end":  " alone " + framesWord + strings.Repeat("A", 43) + "\r\n\xff\xff\xff\xff",
		"a refusal that is none": " alone " + framesWord + strings.Repeat("A", 43) + "\r\n\x00\x00\x00\x02no",
		"half an answer":         " alone " + framesWord + strings.Repeat("A", 43) + "\r\n\x00\x00",
		"nothing":                "",
	} {
		t.Run(name, func(t *testing.T) {
			near, far := sockets(t)
			line, rest, _ := strings.Cut(says, "\n")
			go func() {
				if name == "more than a greeting" {
					_, _ = io.WriteString(far, "SSH-2.0-quay"+says)
				} else if says != "" {
					_, _ = io.WriteString(far, "SSH-2.0-quay"+line+"\n")
					_, _ = far.Read(make([]byte, 500)) // what is wanted
					_, _ = io.WriteString(far, rest)
				}
				far.Close()
			}()
			_, err := dialAlone(t, Private(near), key)
			require.Error(t, err)
			assert.NotErrorIs(t, err, ErrTogether)
		})
	}
}

// The agent hears the service alone; what proves that it asks for one thing proves nothing else, and the
// other way round.
func TestWhoAsksForOneThing(t *testing.T) {
	key := signer(t)
	for name, says := range map[string]func(nonce []byte, to net.Conn) error{
		"a stranger": func(nonce []byte, to net.Conn) error {
			return show(to, beginsAlone, provesAlone, nonce, signer(t), ssh.Marshal(struct{ B []byte }{ssh.Marshal(wanted{"direct-tcpip", nil})}))
		},
		"with the proof of frames": func(nonce []byte, to net.Conn) error {
			return show(to, beginsAlone, proves, nonce, key, ssh.Marshal(struct{ B []byte }{ssh.Marshal(wanted{"direct-tcpip", nil})}))
		},
		"frames with the proof of one thing": func(nonce []byte, to net.Conn) error {
			return show(to, begins, provesAlone, nonce, key, nil)
		},
		"one of megabytes": func(nonce []byte, to net.Conn) error {
			return show(to, beginsAlone, provesAlone, nonce, key, []byte("\x00\x40\x00\x00"))
		},
		"one that is none": func(nonce []byte, to net.Conn) error {
			return show(to, beginsAlone, provesAlone, nonce, key, []byte("\x00\x00\x00\x02no"))
		},
		"one that does not wait for the answer": func(nonce []byte, to net.Conn) error {
			return show(to, beginsAlone, provesAlone, nonce, key, append(ssh.Marshal(struct{ B []byte }{ssh.Marshal(wanted{"direct-tcpip", nil})}), "GET /"...))
		},
	} {
		t.Run(name, func(t *testing.T) {
			near, far := sockets(t)
			heard := accept(t, far, key)
			greeting := make([]byte, longestLine)
			n, err := near.Read(greeting)
			require.NoError(t, err)
			require.NoError(t, says(nonceOf(string(greeting[:n])), near))
			m := <-heard
			require.Error(t, m.err)
			assert.Nil(t, m.alone)
			assert.Nil(t, m.peer.Conn)
		})
	}
}
