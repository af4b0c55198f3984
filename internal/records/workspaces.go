package records

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

// The states of a workspace.
const (
	Waiting  = "waiting"
	Making   = "making"
	Starting = "starting"
	Ready    = "ready"
	Stopping = "stopping"
	Stopped  = "stopped"
	Failed   = "failed"
	Removing = "removing"
	Lost     = "lost"
	Kept     = "kept" // of one that is kept warm: it waits for somebody
)

// What a person asked for last.
const (
	WantRunning = "running"
	WantStopped = "stopped"
	WantRemoved = "removed"
)

// Workspace is a place to work.
type Workspace struct {
	ID       int64
	Account  int64
	Name     string
	Source   string
	Ref      string
	File     string
	Site     string
	State    string
	Reason   string
	Wanted   string
	Commit   string
	Plan     json.RawMessage // plan.Plan, or nil; in lists always nil: see Plans
	Planned  int64           // how often the plan was changed
	Session  json.RawMessage // wire.Session, or nil
	UID      *int
	Created  time.Time
	LastUsed time.Time
	Checks   json.RawMessage // []run.CheckResult, or nil

	Kind   string          // IsWorkspace, IsHelper or IsPrepared
	Parent *int64          // of a helper: whose it is
	Spec   json.RawMessage // of a helper: what it is made from
	Mount  bool            // the source is a folder of the host, mounted in place
	Size   string
	// BeginsWith is the snapshot that it begins with.
	BeginsWith *int64
	// Earlier is what it was before the rebuild or the move that is under way.
	Earlier   json.RawMessage
	StopsAt   *time.Time // nobody uses it: it stops then
	StayUntil *time.Time // it does not stop by itself before then
	// Variations are []definition.Variation, or nil: what is set in its definition to another
	// value than the file says.
	Variations json.RawMessage
	Keep       int    // of what is prepared: how many are kept warm
	KeptFor    *int64 // of one that is kept warm: what is prepared
}

// Hidden tells that nobody gets into it, whatever its name.
func (w Workspace) Hidden() bool { return w.Kind == IsPrepared || w.Kind == IsKept }

// The kinds of workspaces: those that people asked for, their helpers, and those in which
// sources are prepared ahead of time, or which are kept warm for somebody who comes: these nobody
// gets into.
const (
	IsWorkspace = "workspace"
	IsHelper    = "helper"
	IsPrepared  = "prepared"
	IsKept      = "kept"
)

// ShouldRun tells whether the workspace is one that runs, or is to.
func (w Workspace) ShouldRun() bool {
	return w.Wanted == WantRunning && w.State != Stopped && w.State != Failed
}

// SiteID is what the workspace is called at its site.
func (w Workspace) SiteID() string { return fmt.Sprintf("w%d", w.ID) }

const workspaceColumns = "id, account, name, source, ref, file, site, state, reason, wanted, commit, plan, planned, session, uid, created, last_used, checks, kind, parent, spec, mount, size, begins_with, earlier, stops_at, stay_until, variations, keep, kept_for"

// listedColumns leave out what is large: a list is asked for often.
var listedColumns = strings.NewReplacer(" plan,", " NULL::jsonb AS plan,", " earlier,", " NULL::jsonb AS earlier,").Replace(workspaceColumns)

// AddWorkspace makes a record. A name that the account uses already is ErrTaken.
func (q Queries) AddWorkspace(ctx context.Context, w Workspace) (Workspace, error) {
	if w.Kind == "" {
		w.Kind = IsWorkspace
	}
	w, err := one[Workspace](ctx, q.db, `INSERT INTO workspaces (account, name, source, ref, file, site, state, wanted, kind, parent, spec, mount, size, begins_with, variations)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15) ON CONFLICT DO NOTHING RETURNING `+workspaceColumns,
		w.Account, w.Name, w.Source, w.Ref, w.File, w.Site, w.State, w.Wanted, w.Kind, w.Parent, w.Spec, w.Mount, w.Size, w.BeginsWith, w.Variations)
	if err == ErrNotFound {
		err = ErrTaken
	}
	return w, err
}

// WorkspaceByName finds an account's workspace.
func (q Queries) WorkspaceByName(ctx context.Context, account int64, name string) (Workspace, error) {
	return one[Workspace](ctx, q.db, "SELECT "+workspaceColumns+" FROM workspaces WHERE account = $1 AND name = $2", account, name)
}

// LockWorkspace finds a workspace and keeps it from being changed until the transaction ends.
func (q Queries) LockWorkspace(ctx context.Context, account int64, name string) (Workspace, error) {
	return one[Workspace](ctx, q.db, "SELECT "+workspaceColumns+" FROM workspaces WHERE account = $1 AND name = $2 FOR UPDATE", account, name)
}

// Workspace finds a workspace by its id.
func (q Queries) Workspace(ctx context.Context, id int64) (Workspace, error) {
	return one[Workspace](ctx, q.db, "SELECT "+workspaceColumns+" FROM workspaces WHERE id = $1", id)
}

var listOf = "SELECT " + listedColumns + " FROM workspaces WHERE account = $1 AND kind = 'workspace' ORDER BY last_used DESC, id DESC"

// Workspaces lists an account's workspaces, newest use first. Helpers and what is prepared
// are not among them.
func (q Queries) Workspaces(ctx context.Context, account int64) ([]Workspace, error) {
	return many[Workspace](ctx, q.db, listOf, account)
}

// WorkspacesWithin lists an account's workspaces and their helpers.
func (q Queries) WorkspacesWithin(ctx context.Context, account int64) ([]Workspace, error) {
	return many[Workspace](ctx, q.db, "SELECT "+listedColumns+" FROM workspaces WHERE account = $1 AND kind IN ('workspace', 'helper') ORDER BY id", account)
}

// LatestUse is when something was used last, by the database's clock.
func (q Queries) LatestUse(ctx context.Context) (at time.Time, err error) {
	err = q.db.QueryRow(ctx, "SELECT greatest('epoch', (SELECT max(last_used) FROM workspaces), (SELECT max(last_used) FROM tokens))").Scan(&at)
	return at, FromDatabase(err)
}

// WorkspacesAt lists all workspaces of a site.
func (q Queries) WorkspacesAt(ctx context.Context, site string) ([]Workspace, error) {
	return many[Workspace](ctx, q.db, "SELECT "+listedColumns+" FROM workspaces WHERE site = $1 ORDER BY id", site)
}

// EveryWorkspace lists all workspaces, of all accounts and sites.
func (q Queries) EveryWorkspace(ctx context.Context) ([]Workspace, error) {
	return many[Workspace](ctx, q.db, "SELECT "+listedColumns+" FROM workspaces ORDER BY id")
}

// PlanRow is a workspace's plan, and how often it was changed until then.
type PlanRow struct {
	ID      int64
	Planned int64
	Plan    json.RawMessage
}

// Plans gives the plans of workspaces, by workspace.
func (q Queries) Plans(ctx context.Context, workspaces []int64) (map[int64]PlanRow, error) {
	rows, err := many[PlanRow](ctx, q.db, "SELECT id, planned, plan FROM workspaces WHERE id = ANY($1) AND plan IS NOT NULL", workspaces)
	m := make(map[int64]PlanRow, len(rows))
	for _, r := range rows {
		m[r.ID] = r
	}
	return m, err
}

// SetWorkspaceState sets the state and tells of it.
func (q Queries) SetWorkspaceState(ctx context.Context, w Workspace, state, reason string) error {
	return q.changeAndTell(ctx, nil, Event{Type: "workspace", Account: w.Account, Workspace: w.Name, State: state},
		"UPDATE workspaces SET state = $2, reason = $3 WHERE id = $1", w.ID, state, reason)
}

// SetSeenState sets the state of a workspace that was looked at from outside: only where it
// still is what was seen, and no run is unfinished, which would know better.
func (q Queries) SetSeenState(ctx context.Context, w Workspace, state, reason string) error {
	return q.changeAndTell(ctx, nil, Event{Type: "workspace", Account: w.Account, Workspace: w.Name, State: state}, `UPDATE workspaces SET state = $3, reason = $4 WHERE id = $1 AND state = $2
		AND NOT EXISTS (SELECT 1 FROM runs WHERE workspace = $1 AND state IN ('waiting', 'running'))`, w.ID, w.State, state, reason)
}

// SetWanted notes what the person asked for.
func (q Queries) SetWanted(ctx context.Context, id int64, wanted string) error {
	return q.change(ctx, ErrNotFound, "UPDATE workspaces SET wanted = $2, last_used = now() WHERE id = $1", id, wanted)
}

// SetSource changes what a workspace that is not made yet is made from.
func (q Queries) SetSource(ctx context.Context, id int64, ref, file, size string, variations json.RawMessage) error {
	return q.change(ctx, ErrNotFound, "UPDATE workspaces SET ref = $2, file = $3, size = $4, variations = $5 WHERE id = $1", id, ref, file, size, variations)
}

// SetSize notes the size that is asked for a workspace; empty: its definition's, or the usual one.
func (q Queries) SetSize(ctx context.Context, id int64, size string) error {
	return q.change(ctx, ErrNotFound, "UPDATE workspaces SET size = $2 WHERE id = $1", id, size)
}

// SetSite notes at which site a workspace is.
func (q Queries) SetSite(ctx context.Context, id int64, site string) error {
	return q.change(ctx, ErrNotFound, "UPDATE workspaces SET site = $2 WHERE id = $1", id, site)
}

// RunningAt counts the workspaces that run at a site, or are to, beside one; nobody else counts
// there until the transaction ends. What is kept warm makes way, and is not counted.
func (q Queries) RunningAt(ctx context.Context, site string, beside int64) (n int, err error) {
	if _, err := q.db.Exec(ctx, "SELECT 1 FROM sites WHERE name = $1 FOR UPDATE", site); err != nil {
		return 0, err
	}
	err = q.db.QueryRow(ctx, "SELECT count(*) FROM workspaces WHERE site = $1 AND id <> $2 AND planned > 0 AND wanted = '"+WantRunning+"' AND kind NOT IN ('"+IsPrepared+"', '"+IsKept+"') AND state NOT IN ('"+Stopped+"', '"+Failed+"')", site, beside).Scan(&n)
	return n, err
}

// SetPlan keeps the plan of a workspace and the commit it is for.
func (q Queries) SetPlan(ctx context.Context, id int64, commit string, plan json.RawMessage) error {
	return q.change(ctx, ErrNotFound, "UPDATE workspaces SET commit = $2, plan = $3, planned = planned + 1 WHERE id = $1", id, commit, plan)
}

// SetBeginsWith notes the snapshot that a workspace begins with; nil: none.
func (q Queries) SetBeginsWith(ctx context.Context, id int64, snapshot *int64) error {
	return q.change(ctx, ErrNotFound, "UPDATE workspaces SET begins_with = $2 WHERE id = $1", id, snapshot)
}

// SetSession keeps what the agent was told and what it made of it.
func (q Queries) SetSession(ctx context.Context, id int64, session json.RawMessage, uid int) error {
	return q.change(ctx, ErrNotFound, "UPDATE workspaces SET session = $2, uid = $3 WHERE id = $1", id, session, uid)
}

// Touch notes that a workspace was used.
func (q Queries) Touch(ctx context.Context, id int64) error {
	_, err := q.db.Exec(ctx, "UPDATE workspaces SET last_used = now() WHERE id = $1", id)
	return err
}

// RemoveWorkspace removes the record with all its runs and logs, and tells of it.
func (q Queries) RemoveWorkspace(ctx context.Context, w Workspace) error {
	return q.changeAndTell(ctx, nil, Event{Type: "workspace", Account: w.Account, Workspace: w.Name, State: "removed"}, "DELETE FROM workspaces WHERE id = $1", w.ID)
}

// CountWorkspaces counts all workspaces by state.
func (q Queries) CountWorkspaces(ctx context.Context) (map[string]int, error) {
	type row struct {
		State string
		Count int
	}
	list, err := many[row](ctx, q.db, "SELECT state, count(*)::int AS count FROM workspaces GROUP BY state")
	counts := map[string]int{}
	for _, r := range list {
		counts[r.State] = r.Count
	}
	return counts, err
}

// SetChecks keeps what was proved last.
func (q Queries) SetChecks(ctx context.Context, w Workspace, results json.RawMessage) error {
	return q.changeAndTell(ctx, nil, Event{Type: "workspace", Account: w.Account, Workspace: w.Name, State: w.State}, "UPDATE workspaces SET checks = $2 WHERE id = $1", w.ID, results)
}
