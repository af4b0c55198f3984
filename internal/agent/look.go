package agent

import (
	"context"
	"encoding/json"
	"fmt"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/splice"
)

// look shows what a terminal that is open prints, from what is kept of it on, to somebody who cannot
// type, gives it no size, keeps it neither open nor waiting, and is told its size.
func (s *Server) look(ctx context.Context, asked connection.NewChannel) {
	var q wire.LookRequest
	if err := json.Unmarshal(asked.ExtraData(), &q); err != nil {
		_ = asked.Reject(ssh.ConnectionFailed, "cannot read the request: "+err.Error())
		return
	}
	s.mu.Lock()
	t := s.terminals[q.Terminal]
	s.mu.Unlock()
	if t == nil {
		_ = asked.Reject(ssh.ConnectionFailed, fmt.Sprintf("no terminal %q is open", q.Terminal))
		return
	}
	channel, requests, err := asked.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	output := t.output.overhear()
	defer output.Close()
	defer context.AfterFunc(ctx, output.Close)()
	go func() {
		connection.Discard(requests)
		output.Close() // who looked is gone
	}()
	sizes, done := t.sizes()
	defer done()
	ended := make(chan struct{})
	told := make(chan struct{})
	go func() {
		defer close(told)
		for {
			select {
			case <-ended:
				return
			case size := <-sizes:
				_, _ = channel.SendRequest(wire.LookSize, false, ssh.Marshal(wire.WindowSize{Columns: size.Columns, Rows: size.Rows}))
			}
		}
	}()
	_ = splice.Copy(channel, output)
	close(ended)
	<-told
	select {
	case <-t.process.done:
		sendExit(channel, t.process.status)
	default:
	}
}

// sizes tells the size of the terminal, and each change of it, until done is called. Of several
// changes that nobody has taken the last one is told.
func (t *terminal) sizes() (sizes <-chan windowSize, done func()) {
	c := make(chan windowSize, 1)
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.lookers == nil {
		t.lookers = map[chan windowSize]bool{}
	}
	t.lookers[c] = true
	c <- t.size
	return c, func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		delete(t.lookers, c)
	}
}

// sized notes the size and tells who looks.
func (t *terminal) sized(size windowSize) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.size = size
	for c := range t.lookers {
		select {
		case <-c:
		default:
		}
		c <- size
	}
}
