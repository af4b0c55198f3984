package records

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
)

// What a guest may do in a workspace.
const (
	MayLook = "look" // see what happens in the terminals that are open
	MayType = "type" // come in as the owner does
)

// Guest is somebody who is invited into a workspace.
type Guest struct {
	Workspace int64
	Account   int64
	Person    string // the name of the account
	May       string
	Invited   time.Time
	Until     time.Time
	Came      *time.Time // the last time; nil: not yet
}

// inTime are the invitations that hold: in time, and of owners who are not locked.
const inTime = `g.until > now() AND EXISTS (SELECT FROM workspaces w JOIN accounts o ON o.id = w.account WHERE w.id = g.workspace AND w.kind = 'workspace' AND NOT o.locked)`

const guestOf = "SELECT g.workspace, g.account, a.name AS person, g.may, g.invited, g.until, g.came FROM guests g JOIN accounts a ON a.id = g.account WHERE "

// Invite invites somebody into a workspace until a moment, or changes the invitation. Where as many
// others are invited as may be it is ErrNotFound.
func (q Queries) Invite(ctx context.Context, g Guest, most int) error {
	return q.change(ctx, ErrNotFound, `WITH old AS (DELETE FROM guests WHERE workspace = $1 AND until < now() AND account <> $2),
		counted AS (UPDATE workspaces SET typists = typists + 1 WHERE id = $1 AND ($3 = 'type' OR EXISTS (SELECT FROM guests WHERE workspace = $1 AND account = $2 AND may = 'type')))
		INSERT INTO guests (workspace, account, may, until) SELECT $1, $2, $3, $4 WHERE (SELECT count(*) FROM guests WHERE workspace = $1 AND account <> $2 AND until > now()) < $5
		ON CONFLICT (workspace, account) DO UPDATE SET may = $3, until = $4, invited = now()`, g.Workspace, g.Account, g.May, g.Until, most)
}

// Guests lists who is invited into a workspace.
func (q Queries) Guests(ctx context.Context, workspace int64) ([]Guest, error) {
	return many[Guest](ctx, q.db, guestOf+"g.workspace = $1 AND "+inTime+" ORDER BY a.name", workspace)
}

// Guest finds the invitation of an account into a workspace.
func (q Queries) Guest(ctx context.Context, workspace, account int64) (Guest, error) {
	return one[Guest](ctx, q.db, guestOf+"g.workspace = $1 AND g.account = $2 AND "+inTime, workspace, account)
}

// Uninvite ends an invitation.
func (q Queries) Uninvite(ctx context.Context, workspace, account int64) error {
	return q.change(ctx, ErrNotFound, `WITH counted AS (UPDATE workspaces SET typists = typists + 1 WHERE id = $1 AND EXISTS (SELECT FROM guests WHERE workspace = $1 AND account = $2 AND may = 'type'))
		DELETE FROM guests WHERE workspace = $1 AND account = $2`, workspace, account)
}

// GuestCame notes that a guest has come in, and among the changes from where, unless that was a
// moment ago; the last 200 changes stay. It is ErrNotFound where the invitation is over.
func (q Queries) GuestCame(ctx context.Context, workspace, account int64, from string) error {
	return q.change(ctx, ErrNotFound, `WITH before AS (SELECT came FROM guests WHERE workspace = $1 AND account = $2),
		old AS (`+dropOld+`), noted AS (INSERT INTO guest_changes (workspace, account, what) SELECT $1, $2, $3 FROM before WHERE came IS NULL OR came < now() - interval '10 minutes')
		UPDATE guests g SET came = now() WHERE g.workspace = $1 AND g.account = $2 AND `+inTime, workspace, account, "came in from "+from)
}

// Invitation is a workspace of somebody else that an account is invited into.
type Invitation struct {
	ID    int64 // of the workspace
	Name  string
	State string
	Owner string // the name of the account
	May   string
	Until time.Time
}

const invitation = `SELECT w.id, w.name, w.state, o.name AS owner, g.may, g.until FROM guests g JOIN workspaces w ON w.id = g.workspace JOIN accounts o ON o.id = w.account WHERE g.account = $1 AND ` + inTime

// Invitations lists those of an account.
func (q Queries) Invitations(ctx context.Context, account int64) ([]Invitation, error) {
	return many[Invitation](ctx, q.db, invitation+" ORDER BY w.name, o.name", account)
}

// InvitationTo finds the one into a workspace that its owner calls by a name.
func (q Queries) InvitationTo(ctx context.Context, account int64, workspace, owner string) (Invitation, error) {
	return one[Invitation](ctx, q.db, invitation+" AND w.name = $2 AND o.name = $3", account, workspace, owner)
}

// Visit is an account in a workspace of somebody else, by what it may do there.
type Visit struct {
	Workspace, Account int64
	May                string
}

// Over tells which visits have no invitation any more. Who may type may look, too.
func (q Queries) Over(ctx context.Context, visits []Visit) ([]Visit, error) {
	workspaces, accounts, may := make([]int64, len(visits)), make([]int64, len(visits)), make([]string, len(visits))
	for i, v := range visits {
		workspaces[i], accounts[i], may[i] = v.Workspace, v.Account, v.May
	}
	return many[Visit](ctx, q.db, `SELECT workspace, account, may FROM unnest($1::bigint[], $2::bigint[], $3::text[]) AS v (workspace, account, may)
		WHERE NOT EXISTS (SELECT FROM guests g WHERE g.workspace = v.workspace AND g.account = v.account AND g.may IN (v.may, 'type') AND `+inTime+`)`, workspaces, accounts, may)
}

// Typists says who else may type in a workspace or, of a helper, in the one that it helps.
type Typists struct {
	Workspace int64
	Now       bool // somebody may
	// Epoch is another text after each invitation to type, and after each end of one. What the owner allowed the
	// workspace in another epoch no longer counts: somebody else may have left a program there.
	Epoch string
}

// typists asks about the workspaces whose ids the query $1 gives.
const typists = `SELECT of.id AS workspace, EXISTS (SELECT FROM guests g WHERE g.workspace = w.id AND g.may = 'type' AND ` + inTime + `) AS now,
	w.typists::text || '.' || (SELECT count(*) FROM guests g WHERE g.workspace = w.id AND g.may = 'type' AND g.until <= now())::text AS epoch
	FROM workspaces of JOIN workspaces w ON w.id = coalesce(of.parent, of.id) WHERE of.id IN `

// Typists says who else may type in workspaces.
func (q Queries) Typists(ctx context.Context, workspaces []int64) ([]Typists, error) {
	return many[Typists](ctx, q.db, typists+"(SELECT unnest($1::bigint[]))", workspaces)
}

// GuestChange is what was done about a workspace's guests.
type GuestChange struct {
	At   time.Time
	By   string // empty: the account is gone
	What string
}

// dropOld makes room for one change more.
const dropOld = "DELETE FROM guest_changes WHERE workspace = $1 AND id NOT IN (SELECT id FROM guest_changes WHERE workspace = $1 ORDER BY id DESC LIMIT 199)"

// NoteGuests notes what an account did about a workspace's guests, and tells those whom it concerns;
// the last 200 changes stay.
func (q Queries) NoteGuests(ctx context.Context, workspace, by int64, what string, tell ...Event) error {
	err := q.change(ctx, ErrNotFound, `WITH old AS (`+dropOld+`)
		INSERT INTO guest_changes (workspace, account, what) SELECT $1, $2, $3 WHERE EXISTS (SELECT FROM workspaces WHERE id = $1)`, workspace, by, what)
	for _, e := range tell {
		if err != nil {
			return err
		}
		b, jsonErr := json.Marshal(e)
		if jsonErr != nil {
			return fmt.Errorf("tell of guests: %w", jsonErr)
		}
		_, err = q.db.Exec(ctx, "SELECT pg_notify($1, $2)", channel, string(b))
	}
	return err
}

// GuestChanges lists the changes of a workspace's guests, newest first.
func (q Queries) GuestChanges(ctx context.Context, workspace int64, most int) ([]GuestChange, error) {
	return many[GuestChange](ctx, q.db, "SELECT c.at, coalesce(a.name, '') AS by, c.what FROM guest_changes c LEFT JOIN accounts a ON a.id = c.account WHERE c.workspace = $1 ORDER BY c.id DESC LIMIT $2", workspace, most)
}
