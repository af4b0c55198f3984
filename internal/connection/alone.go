package connection

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/handed"
)

// What goes through a channel is put into frames by one side and taken out by the other. Where both are
// on one machine, the agent can hand over what it would copy from: so a service may ask for one thing
// alone on a stream, as it asks for a channel elsewhere, and gets a descriptor (package handed).
const (
	aloneWord   = " alone" // in an agent's greeting: it knows of such streams
	beginsAlone = "domicile-stream\r\n"
	provesAlone = "domicile: the service asks for one thing alone\x00"
	// longestWanted and longestRefusal are in bytes.
	longestWanted  = 4 << 10
	longestRefusal = 4 << 10
	// hurry is how long a stream may last that should come to its end.
	hurry = 2 * time.Second
)

// ErrTogether is told where there are no streams for one thing alone: the other side is not on this
// machine, or is of an earlier version.
var ErrTogether = errors.New("all goes through one stream")

// wanted is what a stream is for. The words are those of a channel (RFC 4254, section 5.1).
type wanted struct {
	Kind  string
	Extra []byte
}

type refusal struct {
	Reason  uint32
	Message string
}

// Socket is the socket below a stream, where it is a private one between two processes of one machine.
func Socket(stream net.Conn) (socket *net.UnixConn, is bool) {
	p, isPrivate := stream.(private)
	if !isPrivate {
		return nil, false
	}
	socket, is = p.Conn.(*net.UnixConn)
	return socket, is
}

// DialAlone asks an agent for one thing on a stream that is for it alone, and gives as many descriptors as
// are wanted, which are not judged yet. On an error the place is left. One of type *ssh.OpenChannelError
// is the agent's refusal; after ErrTogether a channel may be asked for, on another stream.
func DialAlone(stream net.Conn, key ssh.Signer, kind string, extra []byte, place *handed.Place, want int) (fds []int, err error) {
	defer func() {
		if err != nil {
			place.Leave(fds...)
		}
	}()
	socket, near := Socket(stream)
	if !near {
		return nil, ErrTogether
	}
	from := bufio.NewReaderSize(stream, longestLine)
	line, err := readLine(from)
	if err != nil {
		return nil, err
	}
	nonce := nonceOf(line)
	if before, _, _ := strings.Cut(line, " "+framesWord); nonce == nil || !strings.HasSuffix(before, aloneWord) {
		return nil, ErrTogether
	}
	if from.Buffered() > 0 {
		return nil, errors.New("who greets says more than a greeting")
	}
	words := ssh.Marshal(struct{ B []byte }{ssh.Marshal(wanted{kind, extra})})
	if err := show(stream, beginsAlone, provesAlone, nonce, key, words); err != nil {
		return nil, err
	}
	var length [4]byte
	if fds, err = handed.Take(socket, length[:], want); err != nil {
		return fds, err
	}
	return fds, answered(stream, length, len(fds) == want)
}

// answered reads whether what is wanted is granted: no bytes say that it is.
func answered(stream net.Conn, length [4]byte, came bool) error {
	b, err := readLong(stream, length, longestRefusal)
	if err == nil && len(b) == 0 && !came {
		err = ErrTogether // this machine lets nothing pass
	}
	if err != nil || len(b) == 0 {
		return err
	}
	var r refusal
	if err := ssh.Unmarshal(b, &r); err != nil {
		return err
	}
	return &ssh.OpenChannelError{Reason: ssh.RejectionReason(r.Reason), Message: r.Message}
}

// readBytes reads a length in four bytes, and as many bytes; and none beyond them.
func readBytes(from io.Reader, most int) ([]byte, error) {
	var length [4]byte
	if _, err := io.ReadFull(from, length[:]); err != nil {
		return nil, err
	}
	return readLong(from, length, most)
}

func readLong(from io.Reader, length [4]byte, most int) ([]byte, error) {
	n := binary.BigEndian.Uint32(length[:])
	if n > uint32(most) {
		return nil, fmt.Errorf("%d bytes came where %d are the most", n, most)
	}
	b := make([]byte, n)
	_, err := io.ReadFull(from, b)
	return b, err
}

// Alone is one thing that the service asks for on a stream of its own. It must be granted or rejected.
type Alone struct {
	Kind   string
	Extra  []byte
	Stream *net.UnixConn
}

// Grant hands it over: its descriptors. What else is said goes through the stream.
func (a *Alone) Grant(fds ...int) error { return handed.Give(a.Stream, make([]byte, 4), fds...) }

// Hurry says that nothing more comes on the stream. Who asked should come to an end with it, and must
// within the time that is left.
func (a *Alone) Hurry() {
	_ = a.Stream.CloseWrite()
	time.AfterFunc(hurry, func() { a.Stream.Close() })
}

// Reject refuses it, and ends the stream.
func (a *Alone) Reject(reason ssh.RejectionReason, message string) error {
	_, err := a.Stream.Write(ssh.Marshal(struct{ B []byte }{ssh.Marshal(refusal{uint32(reason), message})}))
	return errors.Join(err, a.Stream.Close())
}

// readWanted reads what the stream is for.
func readWanted(stream net.Conn, from *bufio.Reader) (*Alone, error) {
	b, err := readBytes(from, longestWanted)
	if err != nil {
		return nil, err
	}
	var w wanted
	if ssh.Unmarshal(b, &w) != nil || from.Buffered() > 0 { // what comes next is not for this reader
		return nil, errNotTheService
	}
	socket, isSocket := stream.(*net.UnixConn)
	if !isSocket {
		return nil, ErrTogether
	}
	return &Alone{Kind: w.Kind, Extra: w.Extra, Stream: socket}, nil
}
