package gateway

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/records"
	"domicile/internal/wish"
)

// ofOwner stands between a workspace's name and its owner's, where a guest comes: "ssh
// fares~skipper.domicile". Neither kind of name has one.
const ofOwner = "~"

// SplitOwner takes the owner off the name by which a guest comes.
func SplitOwner(name string) (workspace, owner string, guest bool) {
	return strings.Cut(name, ofOwner)
}

// Visit is somebody who comes to a workspace: its owner or a guest.
type Visit struct {
	records.Workspace
	By   records.Credential // whose account comes, and by what
	User string             // of the container; empty: the workspace's own person
	May  string             // what a guest may do: records.MayLook or records.MayType
}

// Guest tells whether who comes is not the owner.
func (v Visit) Guest() bool { return v.By.Account != v.Account }

// invited finds the workspace that an account comes to as a guest who may type, by WORKSPACE~OWNER.
func (s *Server) invited(ctx context.Context, by records.Credential, name, user string) (Visit, error) {
	workspace, owner, _ := SplitOwner(name)
	if workspace == "" || owner == "" {
		return Visit{}, sentence("%s is no workspace of somebody else: give it as WORKSPACE%sOWNER", name, ofOwner)
	}
	to, err := s.Directory.InvitationTo(ctx, by.Account, workspace, owner)
	switch {
	case errors.Is(err, records.ErrNotFound):
		return Visit{}, sentence("You are not invited into %s of %s, or no more. What you are invited into: domicile guests", workspace, owner)
	case err != nil:
		return Visit{}, err
	case to.May != records.MayType:
		return Visit{}, sentence("You are invited to look at %s of %s, not to type: domicile shell %s", workspace, owner, name)
	case user != "":
		return Visit{}, sentence("A guest comes in as the workspace's own person: leave %s%s out", asUser, user)
	}
	w, err := s.Directory.Workspace(ctx, to.ID)
	if err == nil && w.State != records.Ready { // what to do about it is the owner's
		err = sentence("The workspace %s of %s is %s", workspace, owner, w.State)
	}
	return Visit{Workspace: w, By: by, May: to.May}, err
}

// guestsOwn are the channels that a guest may open: terminals, commands, files and forwards. What else
// the owner can ask of the agent is refused, as are all requests of the whole connection: an usher of
// a guest could else answer for the owner's.
var guestsOwn = []string{"session", "direct-tcpip", "direct-streamlocal@openssh.com"}

func (s *Server) asGuest(person connection.Peer) connection.Peer {
	channels, requests := person.Channels, person.Requests
	person.Channels = func(yield func(connection.NewChannel) bool) {
		for n := range channels {
			if !slices.Contains(guestsOwn, n.ChannelType()) {
				_ = n.Reject(ssh.Prohibited, "not for guests")
			} else if !yield(n) {
				return
			}
		}
	}
	person.Requests = func(func(*connection.Request) bool) { connection.Discard(requests) }
	return person
}

// reachingOut are the channels by which what runs inside reaches the machine that the owner sits at:
// its usher, and the agent and the display that an SSH client offers. A port that the owner forwards
// is not among them: it leads to what the owner has named.
var reachingOut = []string{wire.WishVisit, wire.KeysVisit, "auth-agent@openssh.com", "x11"}

const (
	whyNot = "somebody else is invited to type here: as long as that holds, nothing here reaches the machine that its owner sits at"
	// mostToldAtOnce is how many programs of a connection are told why, at once.
	mostToldAtOnce = 8
)

// tellWhy answers a wish in the usher's stead; other visits have no words for it.
func tellWhy(n connection.NewChannel, workspace string) {
	if n.ChannelType() != wire.WishVisit {
		_ = n.Reject(ssh.Prohibited, whyNot)
		return
	}
	channel, requests, err := n.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	go connection.Discard(requests)
	_ = wish.Skip(channel)
	_ = json.NewEncoder(channel).Encode(wish.Word{Done: true, Error: whyNot, Code: "not-allowed", Remedy: "domicile guests " + workspace})
}

// Arrive notes that somebody is connected to a workspace, and of a guest from where, until leave is
// called. end ends the connection; it is called when the credential or a guest's invitation ends.
func (s *Server) Arrive(ctx context.Context, v Visit, from string, end func()) (leave func(), err error) {
	if leave, err = s.Opened(v.By, end); err != nil {
		return nil, err
	}
	if v.Guest() {
		if v.May == records.MayType {
			s.outward.end(v.ID)
		}
		leave = s.presentGuest(v, leave, end)
		// Only now: an invitation that ends from here on ends the connection.
		if err := s.Directory.GuestCame(ctx, v.ID, v.By.Account, from); err != nil {
			leave()
			return nil, fmt.Errorf("note the visit of a guest: %w", err)
		}
	}
	if s.Attached != nil && v.May != records.MayLook {
		go s.Attached(v.Workspace)
	}
	return leave, nil
}

// presentGuest notes that a guest is connected until leave is called, which calls away, too.
func (s *Server) presentGuest(v Visit, away, end func()) (leave func()) {
	visit := records.Visit{Workspace: v.ID, Account: v.By.Account, May: v.May}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.visits == nil {
		s.visits = map[records.Visit]map[*func()]bool{}
	}
	if s.visits[visit] == nil {
		s.visits[visit] = map[*func()]bool{}
	}
	s.visits[visit][&end] = true
	return func() {
		away()
		s.mu.Lock()
		defer s.mu.Unlock()
		if delete(s.visits[visit], &end); len(s.visits[visit]) == 0 {
			delete(s.visits, visit)
		}
	}
}

// TurnOut ends the connections of guests whose invitation is over, and what leads from workspaces to the machines of
// their owners where somebody else may type now.
func (s *Server) TurnOut(ctx context.Context) error {
	if err := s.endOutward(ctx); err != nil {
		return err
	}
	s.mu.Lock()
	var here []records.Visit
	for v := range s.visits {
		here = append(here, v)
	}
	s.mu.Unlock()
	if len(here) == 0 {
		return nil
	}
	over, err := s.Directory.Over(ctx, here)
	if err != nil {
		return err
	}
	s.mu.Lock()
	var ends []func()
	for _, v := range over {
		for end := range s.visits[v] {
			ends = append(ends, *end)
		}
	}
	s.mu.Unlock()
	for _, end := range ends {
		end()
	}
	return nil
}
