package gateway

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/records"
	"domicile/internal/wish"
)

// townsGuests says that the person is invited by ann into raft, to type, and into boat, to look.
type townsGuests struct {
	over   atomic.Bool // all invitations
	others atomic.Bool
	epoch  atomic.Int64 // are invited to type in what is the person's own
	came   atomic.Int32
}

func (o *town) InvitationTo(_ context.Context, account int64, workspace, owner string) (records.Invitation, error) {
	id, may := int64(5), records.MayType
	switch {
	case account != 7 || owner != "ann" || o.guests.over.Load():
		return records.Invitation{}, records.ErrNotFound
	case workspace == "boat":
		id, may = 6, records.MayLook
	case workspace != "raft":
		return records.Invitation{}, records.ErrNotFound
	}
	return records.Invitation{ID: id, Name: workspace, Owner: owner, May: may}, nil
}

func (o *town) Workspace(_ context.Context, id int64) (records.Workspace, error) {
	return records.Workspace{ID: id, Account: 8, Name: "raft", State: o.state}, nil
}

func (o *town) GuestCame(context.Context, int64, int64, string) error {
	o.guests.came.Add(1)
	return nil
}

func (o *town) Over(_ context.Context, visits []records.Visit) ([]records.Visit, error) {
	if o.guests.over.Load() {
		return visits, nil
	}
	return nil, nil
}

func (o *town) Typists(_ context.Context, workspaces []int64) ([]records.Typists, error) {
	list := make([]records.Typists, len(workspaces))
	for i, w := range workspaces {
		list[i] = records.Typists{Workspace: w, Now: o.guests.others.Load(), Epoch: fmt.Sprint(o.guests.epoch.Load())}
	}
	return list, nil
}

func TestAGuestWhoMayType(t *testing.T) {
	key := newSigner(t)
	o := &town{t: t, key: key.PublicKey(), state: records.Ready, agent: telling}
	s, at := o.serve(t)
	c, err := ssh.Dial("tcp", at, &ssh.ClientConfig{User: "raft~ann", Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyCallback: ssh.FixedHostKey(s.HostKeys().Present.PublicKey())})
	require.NoError(t, err)
	defer c.Close()
	session, err := c.NewSession()
	require.NoError(t, err)
	var out bytes.Buffer
	session.Stdin, session.Stdout = strings.NewReader("ahoy"), &out
	var exit *ssh.ExitError
	require.ErrorAs(t, session.Run("echo"), &exit)
	assert.Equal(t, "ahoy", out.String())
	conn, err := c.Dial("tcp", "127.0.0.1:8080")
	require.NoError(t, err, "a forward")
	conn.Close()
	assert.EqualValues(t, 1, o.guests.came.Load())

	// The owner's usher cannot be taken over, nor anything else that is the connection's.
	for _, request := range []string{"tcpip-forward", wire.Lend, "streamlocal-forward@openssh.com"} {
		ok, _, err := c.SendRequest(request, true, nil)
		require.NoError(t, err)
		assert.False(t, ok, request)
	}
	var refused *ssh.OpenChannelError
	for _, kind := range []string{wire.WishVisit, wire.KeysVisit, "session@other", wire.Look} {
		_, _, err = c.OpenChannel(kind, nil)
		require.True(t, errors.As(err, &refused), kind)
		assert.Equal(t, "not for guests", refused.Message)
	}
	// Onward is to what the guest may come to, never to what the owner has.
	for address, want := range map[string]string{"deck.domicile:8080": "localhost", "db.raft~ann.domicile:5432": "db", "raft~ann.domicile:80": "localhost"} {
		conn, err := c.Dial("tcp", address)
		require.NoError(t, err, address)
		got, err := io.ReadAll(conn)
		require.NoError(t, err)
		assert.Equal(t, want, string(got))
	}
	for address, says := range map[string]string{"raft.domicile:22": "You have no workspace", "boat~ann.domicile:80": "to look at boat of ann", "hut~ann.domicile:80": "not invited into hut of ann"} {
		_, err := c.Dial("tcp", address)
		assert.ErrorContains(t, err, says)
	}
	require.NoError(t, s.TurnOut(t.Context()))
	ok, _, err := c.SendRequest("keepalive@openssh.com", true, nil)
	require.NoError(t, err, "an invitation that holds is not ended")
	assert.False(t, ok)
	o.guests.over.Store(true)
	require.NoError(t, s.TurnOut(t.Context()))
	assert.Error(t, c.Wait())
}

func TestGuestsWhoAreRefused(t *testing.T) {
	key := newSigner(t)
	for user, says := range map[string]string{
		"boat~ann":      "You are invited to look at boat of ann, not to type: domicile shell boat~ann",
		"hut~ann":       "You are not invited into hut of ann, or no more. What you are invited into: domicile guests",
		"raft~bo":       "You are not invited into raft of bo",
		"raft~":         "raft~ is no workspace of somebody else: give it as WORKSPACE~OWNER",
		"~ann":          "~ann is no workspace of somebody else: give it as WORKSPACE~OWNER",
		"raft~ann~ann":  "You are not invited into raft of ann~ann",
		"raft~ann+root": "A guest comes in as the workspace's own person: leave +root out",
		"mate.raft~ann": "You are not invited into mate.raft of ann",
	} {
		o := &town{t: t, key: key.PublicKey(), state: records.Ready, agent: telling}
		assert.Contains(t, o.saidTo(t, user, key), says)
		assert.False(t, o.reached, user)
	}
	o := &town{t: t, key: key.PublicKey(), state: records.Stopped, agent: telling}
	assert.Equal(t, "The workspace raft of ann is stopped", o.saidTo(t, "raft~ann", key))
}

// saidTo is what a user is told who is refused, before any agent is asked.
func (o *town) saidTo(t *testing.T, user string, key ssh.Signer) string {
	t.Helper()
	c, err := o.dial(t, user, key)
	require.NoError(t, err)
	session, err := c.NewSession()
	require.NoError(t, err)
	var errs bytes.Buffer
	session.Stderr = &errs
	var exit *ssh.ExitError
	require.ErrorAs(t, session.Run("true"), &exit)
	assert.Equal(t, 255, exit.ExitStatus())
	assert.False(t, o.reached)
	return strings.TrimSpace(errs.String())
}

// Where others may type, what runs inside does not reach the machine that the owner sits at.
func TestTheOwnersUsherWhereOthersMayType(t *testing.T) {
	key := newSigner(t)
	agents := make(chan ssh.Conn, 1)
	o := &town{t: t, key: key.PublicKey(), state: records.Ready, agent: func(c ssh.Conn, channels <-chan ssh.NewChannel, requests <-chan *ssh.Request) {
		agents <- c
		echoing(c, channels, requests)
	}}
	c, err := o.dial(t, "deck", key)
	require.NoError(t, err)
	for _, kind := range reachingOut {
		visits := c.HandleChannelOpen(kind)
		go func() {
			for n := range visits {
				if kind == wire.KeysVisit || kind == wire.WishVisit {
					assert.JSONEq(t, fmt.Sprintf(`{"epoch": "%d"}`, o.guests.epoch.Load()), string(n.ExtraData()))
				}
				_ = n.Reject(ssh.ConnectionFailed, "the usher itself")
			}
		}()
	}
	agent := <-agents
	for turn, others := range []bool{false, true, false} {
		o.guests.others.Store(others)
		o.guests.epoch.Store(int64(turn))
		says := "the usher itself"
		if others {
			says = whyNot
		}
		for _, kind := range reachingOut[1:] {
			_, _, err := agent.OpenChannel(kind, nil)
			if turn == 2 && kind != wire.KeysVisit {
				assert.ErrorContains(t, err, "since this connection began: connect again", kind)
				continue
			}
			assert.ErrorContains(t, err, says, kind)
		}
		channel, requests, err := agent.OpenChannel(wire.WishVisit, nil)
		if !others {
			assert.ErrorContains(t, err, says)
			continue
		}
		require.NoError(t, err) // a program is told why
		go ssh.DiscardRequests(requests)
		require.NoError(t, wish.Write(channel, wish.Wish{Kind: wish.Copy, Text: strings.Repeat("rum ", 100_000)}))
		word, err := wish.Words(channel, func(string) {})
		require.NoError(t, err)
		assert.Equal(t, says, word.Error)
		assert.Equal(t, "domicile guests deck", word.Remedy)
	}
}

// What leads to the owner's machine already ends when somebody else may type.
func TestOpenVisitsEndWhenAGuestMayType(t *testing.T) {
	key := newSigner(t)
	agents := make(chan ssh.Conn, 1)
	o := &town{t: t, key: key.PublicKey(), state: records.Ready, agent: func(c ssh.Conn, channels <-chan ssh.NewChannel, requests <-chan *ssh.Request) {
		agents <- c
		echoing(c, channels, requests)
	}}
	c, err := o.dial(t, "deck", key)
	require.NoError(t, err)
	visits := c.HandleChannelOpen(wire.KeysVisit)
	go func() {
		for n := range visits {
			channel, requests, err := n.Accept()
			assert.NoError(t, err)
			go ssh.DiscardRequests(requests)
			go func() { _, _ = io.Copy(channel, channel) }()
		}
	}()
	channel, requests, err := (<-agents).OpenChannel(wire.KeysVisit, nil)
	require.NoError(t, err)
	go ssh.DiscardRequests(requests)
	_, err = channel.Write([]byte("x"))
	require.NoError(t, err)
	_, err = io.ReadFull(channel, make([]byte, 1))
	require.NoError(t, err, "it works before")
	o.guests.others.Store(true)
	_, err = io.ReadAll(channel)
	assert.NoError(t, err, "and is closed by itself")
}
