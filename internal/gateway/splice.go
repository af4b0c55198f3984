package gateway

import (
	"errors"
	"io"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"
)

// side is one of two SSH connections that are spliced.
type side struct {
	conn     ssh.Conn
	channels <-chan ssh.NewChannel
	requests <-chan *ssh.Request
}

// couple passes channels and requests both ways until one side ends, then ends the other.
// What is Domicile's own between service and agent does not pass.
func couple(person, agent side) {
	go passRequests(person.requests, agent.conn)
	go passRequests(agent.requests, person.conn)
	go passChannels(person.channels, agent.conn)
	go passChannels(agent.channels, person.conn)
	var ended sync.WaitGroup
	ended.Go(func() {
		_ = person.conn.Wait()
		agent.conn.Close()
	})
	ended.Go(func() {
		_ = agent.conn.Wait()
		person.conn.Close()
	})
	ended.Wait()
}

func ours(name string) bool { return strings.HasSuffix(name, "@domicile") }

func passRequests(requests <-chan *ssh.Request, to ssh.Conn) {
	for r := range requests {
		if ours(r.Type) {
			_ = r.Reply(false, nil)
			continue
		}
		ok, answer, err := to.SendRequest(r.Type, r.WantReply, r.Payload)
		if r.WantReply {
			_ = r.Reply(ok && err == nil, answer)
		}
	}
}

func passChannels(channels <-chan ssh.NewChannel, to ssh.Conn) {
	for c := range channels {
		go passChannel(c, to)
	}
}

func passChannel(c ssh.NewChannel, to ssh.Conn) {
	if ours(c.ChannelType()) {
		_ = c.Reject(ssh.Prohibited, "not from here")
		return
	}
	far, farRequests, err := to.OpenChannel(c.ChannelType(), c.ExtraData())
	if err != nil {
		var refused *ssh.OpenChannelError
		if errors.As(err, &refused) {
			_ = c.Reject(refused.Reason, refused.Message)
		} else {
			_ = c.Reject(ssh.ConnectionFailed, "the connection broke")
		}
		return
	}
	near, nearRequests, err := c.Accept()
	if err != nil {
		far.Close()
		return
	}
	go func() {
		copyAll(far, near)
		_ = far.CloseWrite()
	}()
	// A request is answered before the next thing is said of what it began: else the end of a
	// short command overtakes the answer to "exec".
	var answering sync.Mutex
	go func() {
		for r := range nearRequests {
			answering.Lock()
			passChannelRequest(r, far)
			answering.Unlock()
		}
		far.Close() // the one who opened the channel has closed it
	}()
	// What came before the far side's close must have been passed on before ours: all
	// output, and how the program ended.
	var output, requests sync.WaitGroup
	requests.Go(func() {
		for r := range farRequests {
			answered(&answering)
			passChannelRequest(r, near)
		}
	})
	output.Go(func() { copyAll(near, far) })
	output.Go(func() { copyAll(near.Stderr(), far.Stderr()) })
	output.Wait()
	// Only now: the end of data holds for standard error too (RFC 4254, section 5.3).
	_ = near.CloseWrite()
	requests.Wait()
	answered(&answering)
	near.Close()
}

// answered waits until what is being answered is.
func answered(answering *sync.Mutex) {
	answering.Lock()
	defer answering.Unlock()
}

func passChannelRequest(r *ssh.Request, to ssh.Channel) {
	ok, err := to.SendRequest(r.Type, r.WantReply, r.Payload)
	if r.WantReply {
		_ = r.Reply(ok && err == nil, nil)
	}
}

// copyAll copies with a buffer that holds several SSH packets.
func copyAll(to io.Writer, from io.Reader) {
	_, _ = io.CopyBuffer(struct{ io.Writer }{to}, struct{ io.Reader }{from}, make([]byte, 128<<10))
}
