package records

import (
	"context"
	"encoding/json"
	"time"
)

// The kinds of runs.
const (
	KindProvision = "provision"
	KindStart     = "start"
	KindStop      = "stop"
	KindRemove    = "remove"
	KindRebuild   = "rebuild"
	KindAttach    = "attach"   // the commands of postAttachCommand
	KindSnapshot  = "snapshot" // keep a state
	KindReturn    = "return"   // go back to a state that was kept
	KindPrepare   = "prepare"  // make ready what provisioning begins with
)

// The states of runs and steps, beside Waiting and Failed.
const (
	Running  = "running"
	DoneWell = "done"
	Skipped  = "skipped"
)

// Run is one carrying-out of a plan.
type Run struct {
	ID        int64
	Workspace int64
	Kind      string
	State     string
	Reason    string
	Holder    *int64
	Created   time.Time
	Started   *time.Time
	Ended     *time.Time
	Note      string // why it was made, where no person asked for it
}

const runColumns = "id, workspace, kind, state, reason, holder, created, started, ended, note"

// Step is one step of a run.
type Step struct {
	Run        int64
	Position   int
	Name       string
	Title      string
	Digest     string
	State      string
	Reason     string
	Attempts   int
	Result     json.RawMessage
	Started    *time.Time
	Ended      *time.Time
	LastMillis *int64
}

const stepColumns = "run, position, name, title, digest, state, reason, attempts, result, started, ended, last_millis"

// AddRun makes a run for a workspace. While another one is unfinished it is ErrBusy.
func (q Queries) AddRun(ctx context.Context, workspace int64, kind, note string) (Run, error) {
	r, err := one[Run](ctx, q.db, "INSERT INTO runs (workspace, kind, note) VALUES ($1, $2, $3) RETURNING "+runColumns, workspace, kind, note)
	return r, taken(err)
}

// AddStep adds a step behind those that are there, unless its position is taken already
// by the same step of an earlier attempt. It looks up how long the step took last time.
func (q Queries) AddStep(ctx context.Context, s Step) error {
	_, err := q.db.Exec(ctx, `INSERT INTO steps (run, position, name, title, digest, last_millis)
		SELECT $1, $2, $3, $4, $5, (
			SELECT (extract(epoch FROM s.ended - s.started) * 1000)::bigint
			FROM steps s JOIN runs r ON r.id = s.run JOIN workspaces w ON w.id = r.workspace
			WHERE s.name = $3 AND s.state = 'done' AND w.source = (SELECT w2.source FROM workspaces w2 JOIN runs r2 ON r2.workspace = w2.id WHERE r2.id = $1)
			ORDER BY s.ended DESC LIMIT 1)
		ON CONFLICT (run, position) DO NOTHING`, s.Run, s.Position, s.Name, s.Title, s.Digest)
	return err
}

// Run finds a run.
func (q Queries) Run(ctx context.Context, id int64) (Run, error) {
	return one[Run](ctx, q.db, "SELECT "+runColumns+" FROM runs WHERE id = $1", id)
}

// Runs lists a workspace's runs, newest first.
func (q Queries) Runs(ctx context.Context, workspace int64, limit int) ([]Run, error) {
	return many[Run](ctx, q.db, "SELECT "+runColumns+" FROM runs WHERE workspace = $1 ORDER BY id DESC LIMIT $2", workspace, limit)
}

// LastRuns finds the newest run of each of the workspaces.
func (q Queries) LastRuns(ctx context.Context, workspaces []int64) (map[int64]Run, error) {
	list, err := many[Run](ctx, q.db, "SELECT DISTINCT ON (workspace) "+runColumns+" FROM runs WHERE workspace = ANY($1) ORDER BY workspace, id DESC", workspaces)
	m := make(map[int64]Run, len(list))
	for _, r := range list {
		m[r.Workspace] = r
	}
	return m, err
}

// Steps lists the steps of runs, in order.
func (q Queries) Steps(ctx context.Context, runs ...int64) ([]Step, error) {
	return many[Step](ctx, q.db, "SELECT "+stepColumns+" FROM steps WHERE run = ANY($1) ORDER BY run, position", runs)
}

// lease is how long a run stays its holder's without being renewed.
const lease = "30 seconds"

// TakeRun takes the lease of an unfinished run that nobody holds: its lease has run out,
// or its holder is gone. Otherwise it is ErrLost.
func (q Queries) TakeRun(ctx context.Context, id, holder int64) (Run, error) {
	r, err := one[Run](ctx, q.db, `UPDATE runs SET holder = $2, carried = true, lease_until = now() + interval '`+lease+`', state = 'running', started = coalesce(started, now())
		WHERE id = $1 AND state IN ('waiting', 'running') AND (holder IS NULL OR holder = $2 OR lease_until < now() OR NOT `+holderLives("runs")+`)
		AND NOT `+stillCarried+`
		RETURNING `+runColumns, id, holder)
	if err == ErrNotFound {
		err = ErrLost
	}
	return r, err
}

// holderLives looks whether the holder's advisory lock is held. PostgreSQL lets go of it
// as soon as the holder's connection is gone.
func holderLives(run string) string {
	return `EXISTS (SELECT 1 FROM pg_locks WHERE locktype = 'advisory' AND classid = ` + instanceClass + ` AND objid = ` + run + `.holder::oid AND granted)`
}

// stillCarried looks whether somebody is just leaving an earlier run of the same
// workspace that was ended from outside. What it has begun must not mix with what follows.
var stillCarried = `EXISTS (SELECT 1 FROM runs earlier WHERE earlier.workspace = runs.workspace AND earlier.id <> runs.id
	AND earlier.carried AND earlier.lease_until > now() AND ` + holderLives("earlier") + `)`

// RunMustWait tells whether an unfinished run waits for somebody to leave an earlier one.
func (q Queries) RunMustWait(ctx context.Context, id int64) (wait bool, err error) {
	err = q.db.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM runs WHERE id = $1 AND state IN ('waiting', 'running') AND "+stillCarried+")", id).Scan(&wait)
	return wait, err
}

// LeaveRun notes that its holder works on a run no more, however it ended.
func (q Queries) LeaveRun(ctx context.Context, id, holder int64) error {
	_, err := q.db.Exec(ctx, "UPDATE runs SET carried = false WHERE id = $1 AND holder = $2", id, holder)
	return err
}

// RenewRun keeps the lease.
func (q Queries) RenewRun(ctx context.Context, id, holder int64) error {
	return q.change(ctx, ErrLost, "UPDATE runs SET lease_until = now() + interval '"+lease+"' WHERE id = $1 AND holder = $2 AND state = 'running'", id, holder)
}

// OrphanRuns lists the unfinished runs that nobody holds and nobody was told of within
// the given time.
func (q Queries) OrphanRuns(ctx context.Context, quiet time.Duration) ([]Run, error) {
	return many[Run](ctx, q.db, `SELECT `+runColumns+` FROM runs WHERE
		(state = 'running' AND (lease_until < now() OR NOT `+holderLives("runs")+`)) OR (state = 'waiting' AND created < now() - $1::interval)`, quiet)
}

// EndRun ends a run of this holder and tells of it.
func (q Queries) EndRun(ctx context.Context, w Workspace, r Run, state, reason string) error {
	err := q.change(ctx, ErrLost, "UPDATE runs SET state = $3, reason = $4, ended = now(), lease_until = NULL WHERE id = $1 AND holder = $2 AND state = 'running'", r.ID, r.Holder, state, reason)
	if err != nil {
		return err
	}
	return q.notify(ctx, Event{Type: "run", Account: w.Account, Workspace: w.Name, Run: r.ID, State: state})
}

// SetStep writes a step's state, reason, attempts, result and times, and tells of it.
// A run whose lease was lost is not written to: ErrLost.
func (q Queries) SetStep(ctx context.Context, w Workspace, r Run, s Step) error {
	err := q.change(ctx, ErrLost, `UPDATE steps SET state = $3, reason = $4, attempts = $5, result = $6, started = $7, ended = $8
		WHERE run = $1 AND position = $2 AND EXISTS (SELECT 1 FROM runs WHERE id = $1 AND holder = $9 AND state = 'running')`,
		r.ID, s.Position, s.State, s.Reason, s.Attempts, s.Result, s.Started, s.Ended, r.Holder)
	if err != nil {
		return err
	}
	return q.notify(ctx, Event{Type: "step", Account: w.Account, Workspace: w.Name, Run: r.ID, State: s.State})
}

// ReleaseRun gives the lease back, for an orderly stop: another instance may go on at once.
func (q Queries) ReleaseRun(ctx context.Context, r Run) error {
	_, err := q.db.Exec(ctx, "UPDATE runs SET holder = NULL, lease_until = NULL, carried = false WHERE id = $1 AND holder = $2 AND state = 'running'", r.ID, r.Holder)
	return err
}

// CancelRuns ends a workspace's unfinished run from outside. Its holder notices when it
// next writes or renews.
func (q Queries) CancelRuns(ctx context.Context, w Workspace, reason string) error {
	_, err := q.db.Exec(ctx, "UPDATE runs SET state = 'failed', reason = $2, ended = now() WHERE workspace = $1 AND state IN ('waiting', 'running')", w.ID, reason)
	if err != nil {
		return err
	}
	return q.notify(ctx, Event{Type: "run", Account: w.Account, Workspace: w.Name, State: Failed})
}

// SetStateByRun sets a workspace's state on behalf of a run, unless the run was taken away
// or ended from outside: ErrLost.
func (q Queries) SetStateByRun(ctx context.Context, w Workspace, r Run, state, reason string) error {
	err := q.change(ctx, ErrLost, `UPDATE workspaces SET state = $2, reason = $3 WHERE id = $1
		AND EXISTS (SELECT 1 FROM runs WHERE id = $4 AND holder = $5 AND state = 'running')`, w.ID, state, reason, r.ID, r.Holder)
	if err != nil {
		return err
	}
	return q.notify(ctx, Event{Type: "workspace", Account: w.Account, Workspace: w.Name, State: state})
}

// StepMillis tells how long the steps of a source's workspaces took on average, by name.
func (q Queries) StepMillis(ctx context.Context, source string) (map[string]int64, error) {
	type row struct {
		Name   string
		Millis int64
	}
	rows, err := many[row](ctx, q.db, `SELECT steps.name, avg(extract(epoch FROM steps.ended - steps.started) * 1000)::bigint AS millis FROM steps
		JOIN runs ON runs.id = steps.run JOIN workspaces ON workspaces.id = runs.workspace
		WHERE workspaces.source = $1 AND steps.state = 'done' AND steps.ended > now() - interval '30 days' GROUP BY steps.name`, source)
	if err != nil {
		return nil, err
	}
	millis := make(map[string]int64, len(rows))
	for _, r := range rows {
		millis[r.Name] = r.Millis
	}
	return millis, nil
}
