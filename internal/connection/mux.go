package connection

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"
	"sync/atomic"

	"golang.org/x/crypto/ssh"
)

const (
	// window is how many bytes may be under way in one channel that are not read yet.
	window = 2 << 20
	// readAhead is how many bytes are read at a time beyond what is asked for: the heads of messages. Most
	// connections are idle, and each has as much.
	readAhead = 1 << 10
	// mostData is how many bytes a message of a channel has at most.
	mostData = 64 << 10
	// mostBytes is how long another message may be.
	mostBytes = 256 << 10
	// mostChannels is how many channels the other side may have open: whoever is root inside a
	// workspace can ask for any number.
	mostChannels = 4096
	// waiting is how many channels and requests may wait to be taken.
	waiting = 16
)

// errEnded is told where a connection has ended.
var errEnded = errors.New("the connection has ended")

// mux is a connection over plain frames: the length of a message in four bytes, and the message.
type mux struct {
	stream   io.ReadWriteCloser
	writing  sync.Mutex // of one message at a time
	asking   sync.Mutex // one request of the connection at a time waits for its answer
	awaited  atomic.Bool
	answers  chan answer
	opened   chan NewChannel
	requests chan *Request
	closing  chan struct{} // closed when this side ends it
	over     chan struct{} // closed when it has ended

	mu       sync.Mutex
	channels map[uint32]*channel
	next     uint32
	theirs   int   // how many of the channels the other side has asked for
	err      error // why it ended
}

type answer struct {
	ok      bool
	payload []byte
}

// New speaks over a stream, which belongs to the connection from then on. Both sides know by then who
// the other one is.
func New(stream io.ReadWriteCloser) Peer {
	return begin(stream, bufio.NewReaderSize(stream, readAhead))
}

func begin(stream io.ReadWriteCloser, from *bufio.Reader) Peer {
	m := &mux{stream: stream, answers: make(chan answer, 1), opened: make(chan NewChannel, waiting), requests: make(chan *Request, waiting), closing: make(chan struct{}), over: make(chan struct{}), channels: map[uint32]*channel{}}
	go m.serve(from)
	return Peer{Conn: m, Channels: each(m.opened), Requests: each(m.requests)}
}

func (m *mux) serve(from *bufio.Reader) {
	var err error
	for err == nil {
		err = m.receive(from)
	}
	m.mu.Lock()
	if m.err == nil {
		m.err = err
	}
	left := m.channels
	m.channels = nil
	m.mu.Unlock()
	close(m.over)
	m.stream.Close()
	for _, c := range left {
		c.end()
	}
	close(m.opened)
	close(m.requests)
}

// Close ends the connection.
func (m *mux) Close() error {
	m.mu.Lock()
	if m.err == nil {
		m.err = errEnded
		close(m.closing)
	}
	m.mu.Unlock()
	return m.stream.Close()
}

// Wait waits for the connection's end.
func (m *mux) Wait() error {
	<-m.over
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.err
}

// SendRequest asks something of the connection as a whole.
func (m *mux) SendRequest(name string, wantReply bool, payload []byte) (bool, []byte, error) {
	if wantReply {
		m.asking.Lock()
		defer m.asking.Unlock()
		m.awaited.Store(true)
	}
	if err := m.send(globalRequest{Type: name, WantReply: wantReply, Payload: payload}); err != nil || !wantReply {
		return false, nil, err
	}
	select {
	case a := <-m.answers:
		return a.ok, a.payload, nil
	case <-m.over:
	}
	select {
	case a := <-m.answers: // it came before the end
		return a.ok, a.payload, nil
	default:
		return false, nil, errEnded
	}
}

// OpenChannel asks the other side for a channel.
func (m *mux) OpenChannel(kind string, extra []byte) (Channel, Requests, error) {
	c := newChannel(m, kind, extra)
	c.answered = make(chan error, 1)
	m.mu.Lock()
	if m.channels == nil {
		m.mu.Unlock()
		return nil, nil, errEnded
	}
	m.keep(c)
	m.mu.Unlock()
	if err := m.send(openMessage{Type: kind, From: c.local, Window: window, Most: mostData, Extra: extra}); err != nil {
		return nil, nil, err
	}
	select {
	case err := <-c.answered:
		return c.opened(err)
	case <-m.over:
	}
	select {
	case err := <-c.answered: // it came before the end
		return c.opened(err)
	default:
		return nil, nil, errEnded
	}
}

func (c *channel) opened(err error) (Channel, Requests, error) {
	if err != nil {
		return nil, nil, err
	}
	return c, each(c.requests), nil
}

// keep gives a channel its number. The lock is held.
func (m *mux) keep(c *channel) {
	for m.channels[m.next] != nil {
		m.next++
	}
	c.local = m.next
	m.next++
	m.channels[c.local] = c
}

func (m *mux) forget(c *channel) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.channels[c.local] != c {
		return
	}
	delete(m.channels, c.local)
	if c.answered == nil {
		m.theirs--
	}
}

func (m *mux) channel(number uint32) (*channel, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	c := m.channels[number]
	if c == nil {
		return nil, fmt.Errorf("there is no channel %d", number)
	}
	return c, nil
}

// messages are the buffers in which messages are put together.
var messages = sync.Pool{New: func() any { return new([headLength + mostData]byte) }}

// headLength is that of the longest head: length, number, channel, kind of data, length of the data.
const headLength = 4 + 1 + 4 + 4 + 4

func (m *mux) send(message any) error {
	body := ssh.Marshal(message)
	if len(body) > mostBytes {
		return fmt.Errorf("a message of %d bytes is too long: %d are the most", len(body), mostBytes)
	}
	return m.write(append(binary.BigEndian.AppendUint32(make([]byte, 0, 4+len(body)), uint32(len(body))), body...))
}

func (m *mux) write(b []byte) error {
	m.writing.Lock()
	defer m.writing.Unlock()
	_, err := m.stream.Write(b)
	return err
}

// sendData sends at most mostData bytes; kind 0: not of standard error.
func (m *mux) sendData(to, kind uint32, data []byte) error {
	buffer := messages.Get().(*[headLength + mostData]byte)
	defer messages.Put(buffer)
	b := append(buffer[:4], numberData)
	if kind != 0 {
		b[4] = numberExtendedData
	}
	b = binary.BigEndian.AppendUint32(b, to)
	if kind != 0 {
		b = binary.BigEndian.AppendUint32(b, kind)
	}
	b = append(binary.BigEndian.AppendUint32(b, uint32(len(data))), data...)
	binary.BigEndian.PutUint32(b, uint32(len(b)-4))
	return m.write(b)
}

// receive takes one message.
func (m *mux) receive(from *bufio.Reader) error {
	var head [5]byte
	if _, err := io.ReadFull(from, head[:]); err != nil {
		return err
	}
	length, number := binary.BigEndian.Uint32(head[:]), head[4]
	if length < 1 || length > mostBytes {
		return fmt.Errorf("a message of %d bytes", length)
	}
	if number == numberData || number == numberExtendedData {
		return m.receiveData(from, number, length-1)
	}
	body := make([]byte, length)
	body[0] = number
	if _, err := io.ReadFull(from, body[1:]); err != nil {
		return err
	}
	if number >= numberOpened {
		return m.receiveOfChannel(number, body)
	}
	return m.receiveGlobal(number, body)
}

func (m *mux) receiveData(from *bufio.Reader, number byte, length uint32) error {
	var head [12]byte
	n := uint32(8)
	if number == numberExtendedData {
		n = 12
	}
	if length < n {
		return fmt.Errorf("a message %d of %d bytes", number, length)
	}
	if _, err := io.ReadFull(from, head[:n]); err != nil {
		return err
	}
	data := binary.BigEndian.Uint32(head[n-4:])
	if data != length-n || data > mostData {
		return fmt.Errorf("a message of %d bytes with %d of data", length, data)
	}
	c, err := m.channel(binary.BigEndian.Uint32(head[:]))
	if err != nil {
		return err
	}
	kind := uint32(0)
	if number == numberExtendedData {
		kind = binary.BigEndian.Uint32(head[4:])
	}
	return c.receive(from, kind, data)
}

func (m *mux) receiveGlobal(number byte, body []byte) error {
	switch number {
	case numberGlobalRequest:
		var q globalRequest
		if err := ssh.Unmarshal(body, &q); err != nil {
			return err
		}
		r := &Request{Type: q.Type, WantReply: q.WantReply, Payload: q.Payload, reply: func(ok bool, payload []byte) error {
			if ok {
				return m.send(globalSuccess{payload})
			}
			return m.send(globalFailure{payload})
		}}
		select {
		case m.requests <- r:
		case <-m.closing:
		}
	case numberGlobalSuccess, numberGlobalFailure:
		if !m.awaited.Swap(false) {
			return errors.New("an answer that nobody waits for")
		}
		m.answers <- answer{number == numberGlobalSuccess, body[1:]}
	case numberOpen:
		var q openMessage
		if err := ssh.Unmarshal(body, &q); err != nil {
			return err
		}
		m.theyOpen(q)
	default:
		return fmt.Errorf("a message of number %d", number)
	}
	return nil
}

func (m *mux) theyOpen(q openMessage) {
	c := newChannel(m, q.Type, q.Extra)
	c.remote, c.room, c.most = q.From, q.Window, min(q.Most, mostData)
	m.mu.Lock()
	full := m.theirs == mostChannels || c.most == 0
	if !full {
		m.theirs++
		m.keep(c)
	}
	m.mu.Unlock()
	if full {
		// What is received never waits for what is sent: else both sides could wait for each other.
		go func() {
			_ = m.send(openFailure{To: q.From, Reason: ssh.ResourceShortage, Message: fmt.Sprintf("%d channels are open already", mostChannels)})
		}()
		return
	}
	select {
	case m.opened <- &newOne{c}:
	case <-m.closing:
	}
}
