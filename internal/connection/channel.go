package connection

import (
	"errors"
	"io"
	"sync"
	"sync/atomic"

	"golang.org/x/crypto/ssh"
)

// channel is one stream of a connection.
type channel struct {
	mux      *mux
	kind     string
	extra    []byte
	local    uint32 // its number here
	remote   uint32 // and at the other side
	most     uint32 // bytes of data that the other side takes in one message
	answered chan error
	requests chan *Request
	asking   sync.Mutex // one request at a time waits for its answer
	awaited  atomic.Bool
	answers  chan bool
	gone     chan struct{} // closed when this side has closed it
	over     chan struct{} // closed when the other side has, or the connection is over
	out, err inbox
	received uint32        // bytes that may still come; of who receives alone
	read     atomic.Uint32 // bytes that were read and not told yet
	allowed  atomic.Uint32 // of these, told and not counted by who receives yet

	// Nothing is said of a channel after its close: the other side does not know it any more.
	sending   sync.Mutex // of one message of the channel at a time
	saidClose bool

	mu         sync.Mutex
	mayWrite   sync.Cond
	begun      bool   // both sides know it
	room       uint32 // bytes that may be sent
	endedWrite bool
	closed     bool // by this side
	ended      bool // by the other one
}

func newChannel(m *mux, kind string, extra []byte) *channel {
	c := &channel{mux: m, kind: kind, extra: extra, requests: make(chan *Request, waiting), answers: make(chan bool, 1), gone: make(chan struct{}), over: make(chan struct{}), received: window}
	c.mayWrite.L = &c.mu
	c.out.init()
	c.err.init()
	return c
}

// Read reads what the other side sends. Its end is io.EOF.
func (c *channel) Read(p []byte) (int, error) { return c.readFrom(&c.out, p) }

func (c *channel) readFrom(b *inbox, p []byte) (int, error) {
	b.reading.Lock()
	defer b.reading.Unlock()
	if len(p) == 0 {
		return 0, nil
	}
	some, err := b.next()
	if err != nil {
		return 0, err
	}
	n := copy(p, some)
	return n, c.took(b, n)
}

// WriteTo copies all that the other side sends, without a buffer between.
func (c *channel) WriteTo(w io.Writer) (int64, error) { return c.copyTo(&c.out, w) }

func (c *channel) copyTo(b *inbox, w io.Writer) (sum int64, err error) {
	b.reading.Lock()
	defer b.reading.Unlock()
	for {
		some, err := b.next()
		if errors.Is(err, io.EOF) {
			return sum, nil
		}
		n, err := w.Write(some)
		sum += int64(n)
		if tookErr := c.took(b, n); err == nil {
			err = tookErr
		}
		if err != nil {
			return sum, err
		}
	}
}

// took tells the other side, now and then, that it may send more.
func (c *channel) took(b *inbox, n int) error {
	b.took(n)
	read := c.read.Add(uint32(n))
	if read < window/4 || !c.read.CompareAndSwap(read, 0) {
		return nil // what is added meanwhile is told with the next
	}
	c.allowed.Add(read)
	c.mu.Lock()
	over := c.closed || c.ended
	c.mu.Unlock()
	if over {
		return nil
	}
	_ = c.send(adjustMessage{To: c.remote, Bytes: read}) // a broken connection is told by the next read
	return nil
}

// Write sends to the other side.
func (c *channel) Write(p []byte) (int, error) { return c.writeAs(0, p) }

func (c *channel) writeAs(kind uint32, p []byte) (sum int, err error) {
	for len(p) > 0 {
		n, err := c.reserve(len(p))
		if err != nil {
			return sum, err
		}
		if err := c.say(func() error { return c.mux.sendData(c.remote, kind, p[:n]) }); err != nil {
			return sum, err
		}
		sum += n
		p = p[n:]
	}
	return sum, nil
}

// reserve waits until some of n bytes may be sent.
func (c *channel) reserve(n int) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for {
		if c.endedWrite || c.closed || c.ended {
			return 0, io.EOF
		}
		if c.room > 0 {
			n = min(n, int(c.room), int(c.most))
			c.room -= uint32(n)
			return n, nil
		}
		c.mayWrite.Wait()
	}
}

// CloseWrite says that nothing more is sent; the other side may go on.
func (c *channel) CloseWrite() error {
	c.mu.Lock()
	over := c.endedWrite || c.closed || c.ended
	c.endedWrite = true
	c.mu.Unlock()
	if over {
		return io.EOF
	}
	return c.send(eofMessage{c.remote})
}

// Close ends the channel both ways. What has come and is not read is lost.
func (c *channel) Close() error {
	c.out.refuse()
	c.err.refuse()
	return c.sayClosed()
}

// sayClosed tells the other side that nothing more comes from here, once.
func (c *channel) sayClosed() error {
	c.mu.Lock()
	if c.closed {
		c.mu.Unlock()
		return io.EOF
	}
	c.closed = true
	close(c.gone)
	c.mu.Unlock()
	c.mayWrite.Broadcast()
	return c.say(func() error {
		c.saidClose = true
		return c.mux.send(closeMessage{c.remote})
	})
}

func (c *channel) send(message any) error {
	return c.say(func() error { return c.mux.send(message) })
}

// say says something of the channel, unless it was closed before.
func (c *channel) say(send func() error) error {
	c.sending.Lock()
	defer c.sending.Unlock()
	if c.saidClose {
		return io.EOF
	}
	return send()
}

// SendRequest asks something of the channel.
func (c *channel) SendRequest(name string, wantReply bool, payload []byte) (bool, error) {
	if wantReply {
		c.asking.Lock()
		defer c.asking.Unlock()
		c.awaited.Store(true)
	}
	c.mu.Lock()
	over := c.closed || c.ended
	c.mu.Unlock()
	if over {
		return false, io.EOF
	}
	if err := c.send(requestMessage{To: c.remote, Type: name, WantReply: wantReply, Payload: payload}); err != nil || !wantReply {
		return false, err
	}
	select {
	case ok := <-c.answers:
		return ok, nil
	case <-c.over:
	case <-c.gone: // who asks has given it up
	}
	select {
	case ok := <-c.answers: // it came before the end
		return ok, nil
	default:
		return false, io.EOF
	}
}

// Stderr is standard error.
func (c *channel) Stderr() io.ReadWriter { return standardError{c} }

type standardError struct{ c *channel }

func (e standardError) Read(p []byte) (int, error)         { return e.c.readFrom(&e.c.err, p) }
func (e standardError) WriteTo(w io.Writer) (int64, error) { return e.c.copyTo(&e.c.err, w) }
func (e standardError) Write(p []byte) (int, error)        { return e.c.writeAs(standardErrorData, p) }

// standardErrorData is the kind of data that is standard error (RFC 4254, section 5.2).
const standardErrorData = 1

// newOne is a channel that the other side asks for.
type newOne struct{ c *channel }

func (n *newOne) ChannelType() string { return n.c.kind }
func (n *newOne) ExtraData() []byte   { return n.c.extra }

var errDecided = errors.New("the channel was accepted or rejected already")

func (n *newOne) Accept() (Channel, Requests, error) {
	if !n.c.begin() {
		return nil, nil, errDecided
	}
	if err := n.c.mux.send(openedMessage{To: n.c.remote, From: n.c.local, Window: window, Most: mostData}); err != nil {
		return nil, nil, err
	}
	return n.c, each(n.c.requests), nil
}

func (n *newOne) Reject(reason ssh.RejectionReason, message string) error {
	if !n.c.begin() {
		return errDecided
	}
	n.c.mux.forget(n.c)
	return n.c.mux.send(openFailure{To: n.c.remote, Reason: reason, Message: message, Language: "en"})
}

func (c *channel) begin() (first bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	first = !c.begun
	c.begun = true
	return first
}
