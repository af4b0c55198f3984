package gateway

import (
	"errors"
	"iter"
	"strings"
	"sync"
	"time"

	"domicile/internal/connection"
	"domicile/internal/splice"

	"golang.org/x/crypto/ssh"
)

// couple passes channels and requests both ways until one side ends, then ends the other.
// What is Domicile's own between service and agent does not pass.
func couple(person, agent connection.Peer) {
	go passRequests(person.Requests, agent.Conn)
	go passRequests(agent.Requests, person.Conn)
	go passChannels(person.Channels, agent.Conn)
	go passChannels(agent.Channels, person.Conn)
	var ended sync.WaitGroup
	ended.Go(func() {
		_ = person.Conn.Wait()
		agent.Conn.Close()
	})
	ended.Go(func() {
		_ = agent.Conn.Wait()
		person.Conn.Close()
	})
	ended.Wait()
}

func ours(name string) bool { return strings.HasSuffix(name, "@domicile") }

func passRequests(requests connection.Requests, to connection.Conn) {
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

func passChannels(channels iter.Seq[connection.NewChannel], to connection.Conn) {
	for c := range channels {
		go passChannel(c, to)
	}
}

func passChannel(c connection.NewChannel, to connection.Conn) {
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
		_ = splice.Copy(far, near)
		_ = far.CloseWrite()
	}()
	// A request is answered before the next thing is said of what it began: else the end of a
	// short command overtakes the answer to "exec".
	var answering sync.Mutex
	go func() {
		for r := range nearRequests {
			if ours(r.Type) {
				_ = r.Reply(false, nil)
				continue
			}
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
	output.Go(func() { _ = splice.Copy(near, far) })
	output.Go(func() { _ = splice.Copy(near.Stderr(), far.Stderr()) })
	output.Wait()
	// OpenSSH's client closes a channel as soon as data has ended on both sides, and how the program ended, coming
	// after that, would be lost. So that goes first. A program that has closed its output and goes on is seen to
	// after a moment.
	passed := make(chan struct{})
	go func() {
		requests.Wait()
		close(passed)
	}()
	select {
	case <-passed:
	case <-time.After(exitGrace):
	}
	// Only now: the end of data holds for standard error too (RFC 4254, section 5.3).
	_ = near.CloseWrite()
	<-passed
	answered(&answering)
	near.Close()
}

// exitGrace is how long after the end of its output a program's exit status is waited for.
const exitGrace = time.Second

// answered waits until what is being answered is.
func answered(answering *sync.Mutex) {
	answering.Lock()
	defer answering.Unlock()
}

func passChannelRequest(r *connection.Request, to connection.Channel) {
	ok, err := to.SendRequest(r.Type, r.WantReply, r.Payload)
	if r.WantReply {
		_ = r.Reply(ok && err == nil, nil)
	}
}
