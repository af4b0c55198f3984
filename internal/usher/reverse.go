package usher

import (
	"context"
	"domicile/internal/listen"
	"fmt"
	"net"
	"slices"
	"strconv"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/fault"
	"domicile/internal/splice"
)

// Reverse is a port of this machine that appears inside a workspace, at its loopback, as long as the
// usher is at work.
type Reverse struct {
	Workspace string    `json:"workspace"`
	Inside    int       `json:"inside"`           // the port there
	Local     int       `json:"local"`            // the port here
	Made      time.Time `json:"made,omitzero"`    // when the workspace was made
	Forget    bool      `json:"forget,omitempty"` // it is not to be kept any more
	Reason    string    `json:"reason,omitempty"` // why it does not appear
}

// mostReverse is how many are kept of one workspace.
const mostReverse = 50

// Check tells what is wrong with one.
func (r Reverse) Check() error {
	for _, port := range []int{r.Inside, r.Local} {
		if port < 1 || port > 65535 {
			return fault.New("bad-port", "give a number from 1 to 65535", "%d is no port", port)
		}
	}
	return nil
}

// reversed is one that stands, or could not be made.
type reversed struct {
	listener net.Listener
	reason   string
}

// Keep keeps one, or forgets it.
func (u *Usher) Keep(r Reverse) error {
	if err := r.Check(); err != nil {
		return err
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	p := u.places[r.Workspace]
	if p == nil {
		return fault.New("not-found", "domicile list", "you have no workspace %q", r.Workspace)
	}
	c := &u.consent
	same := func(other Reverse) bool { return other.Workspace == r.Workspace && other.Inside == r.Inside }
	before := len(c.Reverse)
	c.Reverse = slices.DeleteFunc(c.Reverse, same)
	if r.Forget && len(c.Reverse) == before {
		return fault.New("not-found", "domicile usher -status", "port %d of %s is none that is kept", r.Inside, r.Workspace)
	}
	p.endReverse(r.Inside)
	if !r.Forget {
		kept := 0
		for _, other := range c.Reverse {
			if other.Workspace == r.Workspace {
				kept++
			}
		}
		if kept == mostReverse {
			return fault.New("full", "forget one: domicile forward NAME PORT -reverse -forget", "%d ports are kept in %s already", kept, r.Workspace)
		}
		r.Made, r.Reason = p.made, ""
		c.Reverse = append(c.Reverse, r)
		if p.client != nil {
			go u.reverse(p.client, p, r)
		}
	}
	return c.keep()
}

// endReverse ends one that stands. The usher's lock is held.
func (p *place) endReverse(inside int) {
	if x := p.reverse[inside]; x != nil && x.listener != nil {
		go x.listener.Close() // it asks the workspace, which may take its time
	}
	delete(p.reverse, inside)
}

// reverseAll makes all that are kept of a workspace, over a new connection.
func (u *Usher) reverseAll(c *ssh.Client, workspace string, p *place) {
	u.mu.Lock()
	p.client, p.reverse = c, map[int]*reversed{}
	var list []Reverse
	for _, r := range u.consent.Reverse {
		if r.Workspace == workspace && r.Made.Equal(p.made) {
			list = append(list, r)
		}
	}
	u.mu.Unlock()
	for _, r := range list {
		go u.reverse(c, p, r)
	}
}

// reverse has one appear, until the connection ends or it is forgotten.
func (u *Usher) reverse(c *ssh.Client, p *place, r Reverse) {
	x := &reversed{}
	listener, err := c.Listen("tcp", net.JoinHostPort("localhost", strconv.Itoa(r.Inside)))
	if err != nil {
		x.reason = fmt.Sprintf("port %d is not free in %s", r.Inside, r.Workspace)
	} else {
		x.listener = listener
	}
	u.mu.Lock()
	still := p.client == c && slices.ContainsFunc(u.consent.Reverse, func(other Reverse) bool { return other.Workspace == r.Workspace && other == r })
	if still {
		p.reverse[r.Inside] = x
		if x.reason != "" {
			u.say(r.Workspace, "reverse "+r.Workspace+strconv.Itoa(r.Inside), x.reason)
		}
	}
	u.mu.Unlock()
	if listener == nil {
		return
	}
	if !still {
		listener.Close()
		return
	}
	accepting := listen.Patient(listener)
	for {
		far, err := accepting.Accept()
		if err != nil {
			return
		}
		go u.joinHere(far, r)
	}
}

// joinHere joins who comes inside to a port of this machine.
func (u *Usher) joinHere(far net.Conn, r Reverse) {
	if err := splice.Local(context.Background(), far, r.Local); err != nil { // it ends with the connection
		u.mu.Lock()
		defer u.mu.Unlock()
		u.say(r.Workspace, "here "+strconv.Itoa(r.Local), r.Workspace+": "+err.Error())
	}
}

// reverseView is what is kept of a workspace, and how it stands. The lock is held.
func (u *Usher) reverseView(workspace string, p *place) []Reverse {
	list := []Reverse{}
	for _, r := range u.consent.Reverse {
		if r.Workspace != workspace || !r.Made.Equal(p.made) {
			continue
		}
		switch x := p.reverse[r.Inside]; {
		case p.client == nil || x == nil:
			r.Reason = "it is not connected"
		default:
			r.Reason = x.reason
		}
		list = append(list, r)
	}
	return list
}
