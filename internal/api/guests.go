package api

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/fault"
	"domicile/internal/gateway"
	"domicile/internal/records"
)

const (
	// inviteHours is how long an invitation holds that says nothing else.
	inviteHours     = 8
	mostInviteHours = 720
	mostGuests      = 50 // of a workspace
	guestChanges    = 20 // that are shown
)

// comes finds the workspace that somebody comes to, ready, by the name that its owner has for it or,
// for a guest, by WORKSPACE~OWNER. What a guest wants to do there must be what the invitation says.
func (s *Server) comes(ctx context.Context, name, may string) (gateway.Visit, error) {
	workspace, owner, guest := gateway.SplitOwner(name)
	if !guest {
		w, err := s.ready(ctx, name)
		return gateway.Visit{Workspace: w, By: credentialOf(ctx)}, err
	}
	if workspace == "" || owner == "" {
		return gateway.Visit{}, fault.New("bad-request", "give it as WORKSPACE~OWNER", "%.80q is no workspace of somebody else", name)
	}
	by := credentialOf(ctx)
	to, err := s.o.Store.InvitationTo(ctx, by.Account, workspace, owner)
	switch {
	case errors.Is(err, records.ErrNotFound):
		return gateway.Visit{}, fault.New("no-invitation", "domicile guests lists what you are invited into", "You are not invited into %s of %s, or no more", workspace, owner)
	case err != nil:
		return gateway.Visit{}, err
	case may == records.MayType && to.May != records.MayType:
		return gateway.Visit{}, fault.New("only-looks", "domicile shell "+name+" shows what is typed there; "+owner+" can invite you to type", "You are invited to look at %s of %s, not to type", workspace, owner)
	}
	w, err := s.o.Store.Workspace(ctx, to.ID)
	if err == nil && w.State != records.Ready {
		err = fault.New("not-ready", "ask "+owner, "The workspace %s of %s is %s", workspace, owner, w.State)
	}
	return gateway.Visit{Workspace: w, By: by, May: may}, err
}

// ListGuests lists who is invited into a workspace, and what was done about guests.
func (s *Server) ListGuests(ctx context.Context, q ListGuestsRequestObject) (ListGuestsResponseObject, error) {
	w, err := s.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	list, err := s.o.Store.Guests(ctx, w.ID)
	if err != nil {
		return nil, err
	}
	changes, err := s.o.Store.GuestChanges(ctx, w.ID, guestChanges)
	return ListGuests200JSONResponse{Guests: each(list, guestView), Changes: each(changes, func(c records.GuestChange) GuestChange {
		return GuestChange{At: c.At, By: c.By, What: c.What}
	})}, err
}

func guestView(g records.Guest) Guest {
	return Guest{Person: g.Person, May: GuestMay(g.May), Invited: g.Invited, Until: g.Until, Came: g.Came}
}

// guest finds a workspace of one's own, and somebody who is or may be its guest.
func (s *Server) guest(ctx context.Context, name, person string) (records.Workspace, records.Account, error) {
	w, err := s.find(ctx, name)
	if err != nil {
		return w, records.Account{}, err
	}
	if w.Parent != nil {
		return w, records.Account{}, fault.New("not-for-helpers", "invite into the workspace itself", "Nobody is invited into a helper")
	}
	a, err := s.colleague(ctx, person)
	return w, a, err
}

// InviteGuest invites somebody, or changes what somebody may do.
func (s *Server) InviteGuest(ctx context.Context, q InviteGuestRequestObject) (InviteGuestResponseObject, error) {
	w, a, err := s.guest(ctx, q.Name, q.Person)
	if err != nil {
		return nil, err
	}
	may, hours := records.MayLook, inviteHours
	if q.Body.May != nil {
		may = string(*q.Body.May)
	}
	if q.Body.Hours != nil {
		hours = *q.Body.Hours
	}
	switch {
	case may != records.MayLook && may != records.MayType:
		return nil, fault.New("bad-request", "look, or type", "A guest cannot be invited to %.20q", may)
	case hours < 1 || hours > mostInviteHours:
		return nil, fault.New("bad-request", fmt.Sprintf("give 1 to %d hours", mostInviteHours), "An invitation cannot hold for %d hours", hours)
	case a.ID == w.Account:
		return nil, fault.New("own-account", "invite somebody else", "The workspace %s is your own", w.Name)
	}
	until := time.Now().Add(time.Duration(hours) * time.Hour)
	var made records.Guest
	err = s.o.Store.InTx(ctx, func(db records.Queries, _ pgx.Tx) error {
		err := db.Invite(ctx, records.Guest{Workspace: w.ID, Account: a.ID, May: may, Until: until}, mostGuests)
		if errors.Is(err, records.ErrNotFound) {
			return fault.New("full", "end another invitation: domicile guests "+w.Name+" -end PERSON", "%s has %d guests already", w.Name, mostGuests)
		}
		if err == nil {
			err = noteGuests(ctx, db, w, account(ctx), a.ID, fmt.Sprintf("invited %s to %s until %s", a.Name, may, until.UTC().Format("2006-01-02 15:04 MST")))
		}
		if err == nil {
			made, err = db.Guest(ctx, w.ID, a.ID)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return InviteGuest200JSONResponse(guestView(made)), s.o.Gateway.TurnOut(ctx) // who typed may only look now
}

// noteGuests notes a change, and tells the owner's pages and the guest's.
func noteGuests(ctx context.Context, db records.Queries, w records.Workspace, by records.Account, guest int64, what string) error {
	return db.NoteGuests(ctx, w.ID, by.ID, what, records.Event{Type: guestsChanged, Account: w.Account, Workspace: w.Name}, records.Event{Type: guestsChanged, Account: guest, Workspace: w.Name})
}

// RemoveGuest ends an invitation.
func (s *Server) RemoveGuest(ctx context.Context, q RemoveGuestRequestObject) (RemoveGuestResponseObject, error) {
	w, a, err := s.guest(ctx, q.Name, q.Person)
	if err != nil {
		return nil, err
	}
	return RemoveGuest204Response{}, s.uninvite(ctx, w, a, fmt.Sprintf("ended the invitation of %s", a.Name))
}

func (s *Server) uninvite(ctx context.Context, w records.Workspace, guest records.Account, what string) error {
	err := s.o.Store.InTx(ctx, func(db records.Queries, _ pgx.Tx) error {
		err := db.Uninvite(ctx, w.ID, guest.ID)
		if errors.Is(err, records.ErrNotFound) {
			return fault.New("no-invitation", "domicile guests "+w.Name+" lists who is", "%s is not invited into %s", guest.Name, w.Name)
		}
		if err != nil {
			return err
		}
		return noteGuests(ctx, db, w, account(ctx), guest.ID, what)
	})
	if err != nil {
		return err
	}
	return s.o.Gateway.TurnOut(ctx)
}

// turnOutGuests ends the connections to this service of guests whose invitation was ended at another
// one, until ctx ends.
func (s *Server) turnOutGuests(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.hub.guests:
		}
		if err := s.o.Gateway.TurnOut(ctx); err != nil && ctx.Err() == nil {
			s.o.Log.Warn("look whose invitation is over", "error", err) // the gateway looks by itself, too
		}
	}
}

// ListInvitations lists what the caller is invited into.
func (s *Server) ListInvitations(ctx context.Context, _ ListInvitationsRequestObject) (ListInvitationsResponseObject, error) {
	list, err := s.o.Store.Invitations(ctx, account(ctx).ID)
	if err != nil {
		return nil, err
	}
	host, port, err := s.sshAddress()
	return ListInvitations200JSONResponse(each(list, func(i records.Invitation) Invitation {
		v := Invitation{Name: i.Name + "~" + i.Owner, Workspace: i.Name, Owner: i.Owner, May: InvitationMay(i.May), Until: i.Until, State: InvitationState(i.State)}
		if i.May == records.MayType {
			v.Host, v.Port = &host, &port
		}
		return v
	})), err
}

// LeaveInvitation gives an invitation back.
func (s *Server) LeaveInvitation(ctx context.Context, q LeaveInvitationRequestObject) (LeaveInvitationResponseObject, error) {
	workspace, owner, _ := gateway.SplitOwner(q.Name)
	to, err := s.o.Store.InvitationTo(ctx, account(ctx).ID, workspace, owner)
	if errors.Is(err, records.ErrNotFound) {
		err = fault.New("no-invitation", "domicile guests lists what you are invited into", "You are not invited into %.60q", q.Name)
	}
	if err != nil {
		return nil, err
	}
	w, err := s.o.Store.Workspace(ctx, to.ID)
	if err != nil {
		return nil, err
	}
	return LeaveInvitation204Response{}, s.uninvite(ctx, w, account(ctx), "gave the invitation back")
}
