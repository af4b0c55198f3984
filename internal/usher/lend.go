package usher

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/time/rate"

	"domicile/internal/agent/wire"
	"domicile/internal/visible"
	"domicile/internal/wish"
)

const (
	// mostVisits is how many programs of one workspace are heard at a time.
	mostVisits = 8
	// mostUnheard is how many visits in a row that came too fast are turned away before the workspace
	// is not heard at all for a while.
	mostUnheard = 200
	// deaf is how long that is.
	deaf = 10 * time.Minute
	// wishLimit is how long a program may take to say what it wishes.
	wishLimit = 10 * time.Second
)

// visits bounds how often programs of a workspace may come: whoever is inside can come without end.
func visits() *rate.Limiter { return rate.NewLimiter(rate.Every(500*time.Millisecond), 40) }

// lend has the programs of a workspace find the usher, until ctx ends. A connection that breaks is
// made anew.
func (u *Usher) lend(ctx context.Context, workspace string, p *place) {
	wait := againFirst
	for ctx.Err() == nil {
		began := time.Now()
		err := u.lendOnce(ctx, workspace, p)
		if ctx.Err() != nil {
			return
		}
		u.mu.Lock()
		p.lending, p.reason, p.client = false, "", nil
		if err != nil {
			p.reason = err.Error()
		}
		pause := wait
		if left := time.Until(p.unheard); left > pause {
			pause = left
		}
		u.mu.Unlock()
		if time.Since(began) > againMost {
			wait = againFirst
		}
		timer := time.NewTimer(pause)
		select {
		case <-ctx.Done():
		case <-timer.C:
		case <-p.again:
		}
		timer.Stop()
		wait = min(2*wait, againMost)
	}
}

// lendOnce does so over one connection, until it ends.
func (u *Usher) lendOnce(ctx context.Context, workspace string, p *place) error {
	c, _, err := p.line.Conn(ctx)
	if err != nil {
		return err
	}
	wishes, keys := c.HandleChannelOpen(wire.WishVisit), c.HandleChannelOpen(wire.KeysVisit)
	if wishes == nil || keys == nil { // it is a connection of before, on which nothing is lent any more
		p.line.Drop(c)
		return nil
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	question, err := json.Marshal(wire.LendRequest{Keys: u.o.Machine.Keys != nil})
	if err != nil {
		return err
	}
	ok, b, err := c.SendRequest(wire.Lend, true, question)
	if err != nil {
		return err
	}
	var answer wire.LendReply
	if !ok {
		answer.Error = "its agent is of an earlier version: rebuild it, then it finds the usher"
	} else if err := json.Unmarshal(b, &answer); err != nil {
		answer.Error = "its agent cannot be understood"
	}
	u.mu.Lock()
	p.lending, p.reason = answer.Error == "", visible.Line(answer.Error, wish.LongestNotice)
	u.mu.Unlock()
	u.reverseAll(c, workspace, p)
	u.receive(ctx, c, workspace, p, wishes, keys)
	return nil
}

// receive takes who comes, until the connection ends.
func (u *Usher) receive(ctx context.Context, c *ssh.Client, workspace string, p *place, wishes, keys <-chan ssh.NewChannel) {
	room, unheard := make(chan struct{}, mostVisits), 0
	for wishes != nil || keys != nil {
		var n ssh.NewChannel
		var open bool
		serve := u.serveWish
		select {
		case <-ctx.Done():
			return
		case n, open = <-wishes:
			if !open {
				wishes = nil
			}
		case n, open = <-keys:
			if !open {
				keys = nil
			}
			serve = u.serveKeyVisit
		}
		if !open {
			continue
		}
		if !p.visits.Allow() {
			_ = n.Reject(ssh.ResourceShortage, "too many at a time")
			if unheard++; unheard >= mostUnheard {
				u.stopHearing(workspace, p)
				p.line.Drop(c)
				return
			}
			continue
		}
		unheard = 0
		u.noteEpoch(p, n.ExtraData())
		select {
		case room <- struct{}{}:
			go func() {
				defer func() { <-room }()
				serve(ctx, workspace, n)
			}()
		default:
			_ = n.Reject(ssh.ResourceShortage, fmt.Sprintf("%d programs are heard already", mostVisits))
		}
	}
}

// noteEpoch takes over the workspace's epoch as the service says it with each visit: the list of workspaces may be
// older.
func (u *Usher) noteEpoch(p *place, extra []byte) {
	var visit wire.VisitExtra
	if json.Unmarshal(extra, &visit) != nil || visit.Epoch == "" {
		return
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	p.epoch = visit.Epoch
}

// aliveLimit is how long a connection may take to show that it lives.
const aliveLimit = 10 * time.Second

// tryLines tries the connections to workspaces after the service was away: a machine that slept, or
// whose network was lost, has connections that nobody else knows of any more.
func (u *Usher) tryLines() {
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, p := range u.places {
		c, there := p.line.Now()
		if !p.lending || !there {
			continue
		}
		go func() {
			late := time.AfterFunc(aliveLimit, func() { p.line.Drop(c) })
			defer late.Stop()
			_, _, _ = c.SendRequest("keepalive@openssh.com", true, nil) // an error ends it for all
		}()
	}
}

// stopHearing hears nothing of a workspace for a while.
func (u *Usher) stopHearing(workspace string, p *place) {
	u.mu.Lock()
	defer u.mu.Unlock()
	p.unheard = time.Now().Add(deaf)
	select {
	case <-p.again: // what was decided before is no wish to hear of it now
	default:
	}
	u.say(workspace, "unheard "+workspace, fmt.Sprintf("%s: a program in it asks without end; nothing of it is heard for %s, or until you decide: domicile usher allow %s KIND", workspace, deaf, workspace))
}

// serveWish hears one wish, and grants it or not.
func (u *Usher) serveWish(ctx context.Context, workspace string, n ssh.NewChannel) {
	channel, requests, err := n.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go ssh.DiscardRequests(requests)
	late := time.AfterFunc(wishLimit, func() { channel.Close() })
	w, err := wish.Read(channel)
	late.Stop()
	gone := make(chan struct{})
	go func() {
		_, _ = io.Copy(io.Discard, channel) // a program says nothing more, and closes when it has the answer
		cancel()
		close(gone)
	}()
	var last wish.Word
	if err == nil {
		say := func(text string) { _ = wish.Write(channel, wish.Word{Say: text}) } // who is gone hears nothing
		last, err = u.grant(ctx, workspace, w, say)
	}
	if err != nil {
		last = refusal(err)
	}
	last.Done = true
	_ = wish.Write(channel, last)
	_ = channel.CloseWrite()
	select {
	case <-gone:
	case <-time.After(wishLimit):
	}
}

func (u *Usher) serveKeyVisit(ctx context.Context, workspace string, n ssh.NewChannel) {
	channel, requests, err := n.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		ssh.DiscardRequests(requests)
		cancel()
	}()
	if err := u.serveKeys(ctx, workspace, channel); err != nil && ctx.Err() == nil {
		u.mu.Lock()
		defer u.mu.Unlock()
		u.say(workspace, "keys "+workspace, fmt.Sprintf("%s: %v", workspace, err))
	}
}
