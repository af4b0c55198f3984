package connection

import (
	"bufio"
	"errors"
	"fmt"

	"golang.org/x/crypto/ssh"
)

// receive takes data.
func (c *channel) receive(from *bufio.Reader, kind, n uint32) error {
	c.received += c.allowed.Swap(0)
	if n > c.received {
		return fmt.Errorf("%d bytes came where %d were allowed", n, c.received)
	}
	c.mu.Lock()
	begun := c.begun
	c.mu.Unlock()
	if !begun {
		return errors.New("data of a channel that is not open yet")
	}
	c.received -= n
	switch kind {
	case 0:
		return c.out.fill(from, int(n))
	case standardErrorData:
		return c.err.fill(from, int(n))
	}
	c.allowed.Add(n) // nobody here knows what it is, so it is read
	if _, err := from.Discard(int(n)); err != nil {
		return err
	}
	go func() { _ = c.send(adjustMessage{To: c.remote, Bytes: n}) }()
	return nil
}

// end is the channel's end where the connection is over.
func (c *channel) end() {
	c.mu.Lock()
	if c.ended {
		c.mu.Unlock()
		return
	}
	c.ended = true
	close(c.over)
	c.mu.Unlock()
	c.mayWrite.Broadcast()
	c.out.end()
	c.err.end()
	close(c.requests)
}

// receiveOfChannel takes a message about one channel.
func (m *mux) receiveOfChannel(number byte, body []byte) error {
	if len(body) < 5 {
		return fmt.Errorf("a message %d of %d bytes", number, len(body))
	}
	c, err := m.channel(uint32(body[1])<<24 | uint32(body[2])<<16 | uint32(body[3])<<8 | uint32(body[4]))
	if err != nil {
		return err
	}
	c.mu.Lock()
	begun := c.begun
	c.mu.Unlock()
	if opening := number == numberOpened || number == numberOpenFailure; opening == begun || opening && c.answered == nil {
		return fmt.Errorf("a message %d out of its turn", number)
	}
	switch number {
	case numberOpened:
		return c.theyOpened(body)
	case numberOpenFailure:
		var q openFailure
		if err := ssh.Unmarshal(body, &q); err != nil {
			return err
		}
		m.forget(c)
		c.answered <- &ssh.OpenChannelError{Reason: q.Reason, Message: q.Message}
	case numberAdjust:
		return c.theyAdjust(body)
	case numberEOF:
		c.out.end()
		c.err.end()
	case numberClose:
		m.forget(c)
		go func() { _ = c.sayClosed() }() // an answer, or nothing where this side was first
		c.end()
	case numberRequest:
		return c.theyAsk(body)
	case numberRequestSuccess, numberRequestFailure:
		if !c.awaited.Swap(false) {
			return errors.New("an answer that nobody waits for")
		}
		c.answers <- number == numberRequestSuccess
	default:
		return fmt.Errorf("a message of number %d", number)
	}
	return nil
}

func (c *channel) theyOpened(body []byte) error {
	var q openedMessage
	if err := ssh.Unmarshal(body, &q); err != nil {
		return err
	}
	if q.Most == 0 {
		return errors.New("a channel through which nothing goes")
	}
	c.mu.Lock()
	c.remote, c.room, c.most, c.begun = q.From, q.Window, min(q.Most, mostData), true
	c.mu.Unlock()
	c.answered <- nil
	return nil
}

func (c *channel) theyAdjust(body []byte) error {
	var q adjustMessage
	if err := ssh.Unmarshal(body, &q); err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.room+q.Bytes < c.room {
		return errors.New("a window of more than four gigabytes")
	}
	c.room += q.Bytes
	c.mayWrite.Broadcast()
	return nil
}

func (c *channel) theyAsk(body []byte) error {
	var q requestMessage
	if err := ssh.Unmarshal(body, &q); err != nil {
		return err
	}
	r := &Request{Type: q.Type, WantReply: q.WantReply, Payload: q.Payload, reply: func(ok bool, _ []byte) error {
		if ok {
			return c.send(requestSuccess{c.remote})
		}
		return c.send(requestFailure{c.remote})
	}}
	select {
	case c.requests <- r:
	case <-c.gone: // nobody takes them any more
	}
	return nil
}
