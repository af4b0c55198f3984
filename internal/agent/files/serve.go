// Package files serves SFTP as OpenSSH's clients know it. The protocol itself is
// github.com/pkg/sftp's; what that does not know is answered here: the extensions of
// OpenSSH's server, and links, whose targets stay as they are written.
package files

import (
	"errors"
	"io"
	"sync"

	"github.com/pkg/sftp"
)

const (
	maxPacket = 256 << 10 // of the library, in bytes
	// maxData is how much one packet carries of a file, in bytes: OpenSSH's own number.
	maxData = maxPacket - 1024
)

// Server serves one session.
type Server struct {
	// Home is where paths without a slash before them begin, and what ~ means.
	Home string

	out     io.Writer
	writing sync.Mutex
	mu      sync.Mutex
	opening map[uint32]string // paths that are being opened, by request
	open    map[string]string // paths that are open, by handle
}

// Serve serves until the client goes.
func (s *Server) Serve(in io.Reader, out io.WriteCloser) error {
	s.out, s.opening, s.open = out, map[uint32]string{}, map[string]string{}
	server, err := sftp.NewServer(struct {
		io.Reader
		io.WriteCloser
	}{&requests{Server: s, in: in}, &answers{Server: s, Closer: out}}, sftp.WithServerWorkingDirectory(s.Home), sftp.WithMaxTxPacket(maxData))
	if err != nil {
		return err
	}
	if err := server.Serve(); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	return nil
}

// requests is what comes from the client, without what is answered here.
type requests struct {
	*Server
	in   io.Reader
	left int    // of a packet that is passed on
	head []byte // of a packet, read already and to be passed on
}

// Read gives the library the next bytes that are for it.
func (r *requests) Read(b []byte) (int, error) {
	for {
		switch {
		case len(r.head) > 0:
			n := copy(b, r.head)
			r.head = r.head[n:]
			return n, nil
		case r.left > 0:
			n, err := r.in.Read(b[:min(len(b), r.left)])
			r.left -= n
			return n, err
		}
		if err := r.next(); err != nil {
			return 0, err
		}
	}
}

// next reads the head of a packet, and the whole of one that is looked at here.
func (r *requests) next() error {
	head := make([]byte, 5) // length and kind
	if _, err := io.ReadFull(r.in, head); err != nil {
		return err
	}
	length := int(number(head)) - 1
	if length < 0 || length > maxPacket || !looked[head[4]] {
		r.head, r.left = head, max(length, 0) // the library refuses what is too long
		return nil
	}
	body := make([]byte, length)
	if _, err := io.ReadFull(r.in, body); err != nil {
		return err
	}
	if r.answer(head[4], body) {
		return nil
	}
	r.head = append(head, body...)
	return nil
}

// answers is what goes to the client. A packet is written in pieces by the library; nothing
// of ours comes between them.
type answers struct {
	*Server
	io.Closer
	left int    // of the packet that is being written
	held []byte // of a packet that is looked at before it goes
	look bool
	// broken is why nothing is written any more.
	broken error
}

// Write writes what the library answers.
func (a *answers) Write(b []byte) (int, error) {
	if a.broken != nil {
		return 0, a.broken
	}
	if a.left == 0 { // the library begins each packet with its head
		if len(b) < 5 {
			return 0, io.ErrShortWrite
		}
		a.writing.Lock()
		a.left = int(number(b)) + 4
		a.look = b[4] == kindVersion || b[4] == kindHandle || b[4] == kindStatus
	}
	a.left -= len(b)
	if a.left == 0 {
		defer a.writing.Unlock()
	}
	packet := b
	if a.look {
		if a.held = append(a.held, b...); a.left > 0 {
			return len(b), nil
		}
		packet, a.held = a.seen(a.held), nil
	}
	if _, err := a.out.Write(packet); err != nil {
		if a.broken = err; a.left > 0 { // the rest of it is never written: nobody waits for that
			a.writing.Unlock()
		}
		return 0, err
	}
	return len(b), nil
}
