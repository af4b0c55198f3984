package longstream

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"sync"
	"time"
)

const (
	// most is how many bytes are kept that the other side has not confirmed: then who writes waits. So
	// it is also how many may have come that were not read yet.
	most = 512 << 10
	// piece is how many bytes one frame carries at the most.
	piece = 64 << 10
	// confirmEvery is after how many bytes what was read is confirmed.
	confirmEvery = 128 << 10
)

// The quiet times of a connection: a side that has nothing to say says so every aliveEvery, and one
// that hears nothing for aliveLimit takes the connection for dead.
const (
	aliveEvery = 8 * time.Second
	aliveLimit = 20 * time.Second
)

// The kinds of frames. Those that carry no data have a payload of eight bytes, which is a number of
// bytes or nothing.
const (
	data     byte = iota
	hello         // the first on each connection: so many came, whatever of them was read
	confirm       // so many were read: the other side need not keep them, and may send as many more
	end           // nothing more is written
	farewell      // all came, and the end too
)

var (
	// ErrLost is that no connection took the place of a broken one in time.
	ErrLost = errors.New("the connection was lost, and did not come back in time")
	// errTorn is that the other side speaks of bytes that cannot be: it is not the one that it was.
	errTorn = errors.New("the other side does not know this stream")
)

// Stream is one end.
type Stream struct {
	mu   sync.Mutex
	cond *sync.Cond

	kept []byte // written here, and not confirmed
	base int64  // the number of kept's first byte, counted from the stream's beginning
	next int64  // that of the byte to send next, on this connection

	come      []byte // came, and not read yet
	received  int64
	confirmed int64

	closed   bool // here
	ended    bool // there
	finished bool // the other side has it all, and the end too
	err      error
	turn     int // counts connections
}

// New makes an end of a stream. Nothing carries it yet.
func New() *Stream {
	s := &Stream{}
	s.cond = sync.NewCond(&s.mu)
	return s
}

// Read reads what came. After the other side's end it is io.EOF.
func (s *Stream) Read(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for len(s.come) == 0 {
		switch {
		case s.ended:
			return 0, io.EOF
		case s.err != nil:
			return 0, s.err
		case s.closed:
			return 0, net.ErrClosed
		}
		s.cond.Wait()
	}
	n := copy(p, s.come)
	if s.come = s.come[n:]; len(s.come) == 0 {
		s.come = nil
	}
	if s.unconfirmed() {
		s.cond.Broadcast()
	}
	return n, nil
}

// read is how many bytes were read of what came. The caller holds the lock.
func (s *Stream) read() int64 { return s.received - int64(len(s.come)) }

// unconfirmed tells whether enough was read to say so. The caller holds the lock.
func (s *Stream) unconfirmed() bool { return s.read()-s.confirmed >= confirmEvery }

// Write keeps bytes until the other side has confirmed them. It waits while that has too many to
// confirm.
func (s *Stream) Write(p []byte) (n int, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for len(p) > 0 {
		for len(s.kept) >= most && s.err == nil && !s.closed && !s.ended {
			s.cond.Wait()
		}
		switch {
		case s.err != nil:
			return n, s.err
		case s.closed:
			return n, net.ErrClosed
		case s.ended:
			return n, io.ErrClosedPipe
		}
		part := min(len(p), most-len(s.kept))
		s.kept = append(s.kept, p[:part]...)
		n, p = n+part, p[part:]
		s.cond.Broadcast()
	}
	return n, nil
}

// Close ends the stream. What was written before arrives still, where a connection carries it.
func (s *Stream) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed = true
	s.cond.Broadcast()
	return nil
}

// Fail gives the stream up: whoever reads or writes learns why.
func (s *Stream) Fail(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err == nil {
		s.err = err
	}
	s.cond.Broadcast()
}

// Over tells whether nothing more is to be carried.
func (s *Stream) Over() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err != nil || s.ended && len(s.come) == 0 || s.finished
}

// Carry has a connection carry the stream until it breaks, another one takes its place, or the
// stream is over: then the error is nil. The connection is closed.
func (s *Stream) Carry(conn net.Conn) error {
	s.mu.Lock()
	s.turn++
	turn, received := s.turn, s.received
	s.next = -1     // until the other side has said what it has
	s.confirmed = 0 // what was said of it may be lost with the connection before
	s.cond.Broadcast()
	s.mu.Unlock()
	defer conn.Close()
	written := make(chan error, 1)
	go func() {
		err := writeFrame(conn, hello, number(received))
		if err == nil {
			err = s.send(conn, turn)
		}
		conn.Close() // who reads from it learns of it
		written <- err
	}()
	err := s.receive(conn, turn)
	conn.Close()
	s.mu.Lock()
	if s.turn == turn {
		s.turn++ // who sends on this connection stops
	}
	s.cond.Broadcast()
	over := s.err != nil || s.ended || s.finished
	s.mu.Unlock()
	if sendErr := <-written; err == nil || sendErr != nil && errors.Is(err, net.ErrClosed) {
		err = sendErr
	}
	if over {
		return nil
	}
	if err == nil {
		err = io.ErrUnexpectedEOF
	}
	return err
}

// send sends, on one connection, what was not sent on it yet.
func (s *Stream) send(conn net.Conn, turn int) error {
	idle := false
	wake := time.AfterFunc(aliveEvery, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		idle = true
		s.cond.Broadcast()
	})
	defer wake.Stop()
	saidEnd, saidFarewell := false, false
	for {
		s.mu.Lock()
		var kind byte
		var payload []byte
		for payload == nil {
			sent := s.next == s.base+int64(len(s.kept))
			switch {
			case s.turn != turn || s.err != nil || s.finished && (saidFarewell || !s.ended):
				defer s.mu.Unlock()
				return s.err
			case s.ended && !saidFarewell: // nobody there reads anything more
				kind, payload, saidFarewell = farewell, number(s.received), true
			case idle || s.unconfirmed():
				kind, payload = confirm, number(s.read())
				s.confirmed, idle = s.read(), false
			case s.next >= 0 && !sent && !s.ended:
				unsent := s.kept[s.next-s.base:]
				kind, payload = data, slices.Clone(unsent[:min(len(unsent), piece)])
				s.next += int64(len(payload))
			case sent && s.closed && !saidEnd:
				kind, payload, saidEnd = end, number(s.received), true
			default:
				s.cond.Wait()
			}
		}
		s.mu.Unlock()
		wake.Reset(aliveEvery)
		if err := writeFrame(conn, kind, payload); err != nil {
			return err
		}
	}
}

// receive takes what comes on one connection.
func (s *Stream) receive(conn net.Conn, turn int) error {
	for first := true; ; first = false {
		_ = conn.SetReadDeadline(time.Now().Add(aliveLimit))
		kind, payload, err := readFrame(conn)
		if err != nil {
			return err
		}
		if first != (kind == hello) {
			return fmt.Errorf("%w: a frame of kind %d at the wrong place", errTorn, kind)
		}
		if done, err := s.take(turn, kind, payload); err != nil || done {
			return err
		}
	}
}

func (s *Stream) take(turn int, kind byte, payload []byte) (done bool, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.turn != turn || s.err != nil {
		return true, s.err
	}
	switch kind {
	case data:
		s.received += int64(len(payload))
		if !s.closed { // else nobody reads it
			s.come = append(s.come, payload...)
		}
		if len(s.come) > most {
			s.err = errTorn
		}
	case end:
		s.ended = true
	case farewell:
		s.finished = true
	default:
		at := int64(binary.BigEndian.Uint64(payload))
		if at < s.base || at > s.base+int64(len(s.kept)) || kind == confirm && s.next >= 0 && at > s.next {
			s.err = errTorn
			break
		}
		if kind == hello { // it may not have read them yet
			s.next = at
			break
		}
		if s.kept, s.base = s.kept[at-s.base:], at; len(s.kept) == 0 {
			s.kept = nil
		}
	}
	s.cond.Broadcast()
	return s.err != nil, s.err
}

func number(n int64) []byte { return binary.BigEndian.AppendUint64(nil, uint64(n)) }

func writeFrame(conn net.Conn, kind byte, payload []byte) error {
	_ = conn.SetWriteDeadline(time.Now().Add(aliveLimit))
	frame := make([]byte, 5, 5+len(payload))
	frame[0] = kind
	binary.BigEndian.PutUint32(frame[1:], uint32(len(payload)))
	_, err := conn.Write(append(frame, payload...))
	return err
}

func readFrame(conn net.Conn) (kind byte, payload []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(conn, head[:]); err != nil {
		return 0, nil, err
	}
	n := binary.BigEndian.Uint32(head[1:])
	if kind = head[0]; kind > farewell || kind == data && n > piece || kind != data && n != 8 {
		return 0, nil, fmt.Errorf("%w: a frame of kind %d with %d bytes", errTorn, kind, n)
	}
	payload = make([]byte, n)
	_, err = io.ReadFull(conn, payload)
	return kind, payload, err
}
