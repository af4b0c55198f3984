package records

import (
	"context"
	"encoding/json"
	"fmt"
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
	KindSnapshot  = "snapshot" // keep a snapshot
	KindReturn    = "return"   // go back to a snapshot
	KindPrepare   = "prepare"  // make ready what provisioning begins with
	KindMove      = "move"     // go to another site
	KindKeep      = "keep"     // make one that is kept warm
	KindTake      = "take"     // take one over that was kept warm
	KindCopy      = "copy"     // keep a copy at another site
	KindAnew      = "anew"     // make it anew from what was kept, where its site is gone
)

// The states of runs and steps, beside Waiting and Failed.
const (
	Running   = "running"
	Succeeded = "done"
	Skipped   = "skipped"
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
	Pull      bool   // a rebuild brings new commits, too
	Target    string // the site where a move, or a copy, goes
	// TargetSize is the size that is asked for there; empty: none.
	TargetSize string
	Snapshot   *int64 // of one that makes it anew: what was kept
}

const runColumns = "id, workspace, kind, state, reason, holder, created, started, ended, note, pull, target, target_size, snapshot"

// Step is one step of a run.
type Step struct {
	Run        int64
	Position   int
	Name       string
	Title      string
	Digest     string
	State      string
	Reason     string
	Code       string // of the fault that is the reason
	Attempts   int
	Result     json.RawMessage
	Started    *time.Time
	Ended      *time.Time
	LastMillis *int64
}

// Over notes that a step is over, now.
func (s *Step) Over(state, reason string) {
	now := time.Now()
	s.State, s.Reason, s.Ended = state, reason, &now
}

const stepColumns = "run, position, name, title, digest, state, reason, code, attempts, result, started, ended, last_millis"

// AddRun makes a run for a workspace. While another one is unfinished it is ErrBusy.
func (q Queries) AddRun(ctx context.Context, workspace int64, kind, note string) (Run, error) {
	r, err := one[Run](ctx, q.db, "INSERT INTO runs (workspace, kind, note) VALUES ($1, $2, $3) RETURNING "+runColumns, workspace, kind, note)
	return r, taken(err)
}

// AddSteps adds steps to a run of a source's workspace, unless their positions are taken
// already by the same steps of an earlier attempt. It looks up how long they took last time.
func (q Queries) AddSteps(ctx context.Context, run int64, source string, steps []Step) error {
	var positions []int
	var names, titles, digests []string
	for _, s := range steps {
		positions, names, titles, digests = append(positions, s.Position), append(names, s.Name), append(titles, s.Title), append(digests, s.Digest)
	}
	_, err := q.db.Exec(ctx, `INSERT INTO steps (run, position, name, title, digest, last_millis)
		SELECT $1, s.position, s.name, s.title, s.digest, t.last
		FROM unnest($3::integer[], $4::text[], $5::text[], $6::text[]) AS s (position, name, title, digest)
		LEFT JOIN step_times t ON t.source = $2 AND t.step = s.name
		ON CONFLICT (run, position) DO NOTHING`, run, source, positions, names, titles, digests)
	return err
}

// PullInRun makes the waiting rebuild of a workspace bring new commits, too.
func (q Queries) PullInRun(ctx context.Context, workspace int64) error {
	return q.change(ctx, ErrNotFound, "UPDATE runs SET pull = true WHERE workspace = $1 AND state = 'waiting' AND kind = '"+KindRebuild+"'", workspace)
}

// TargetRun tells the waiting run of a workspace which site it leads to; snapshot is what it makes
// the workspace anew from; nil: nothing.
func (q Queries) TargetRun(ctx context.Context, workspace int64, site, size string, snapshot *int64) error {
	return q.change(ctx, ErrNotFound, "UPDATE runs SET target = $2, target_size = $3, snapshot = $4 WHERE workspace = $1 AND state = 'waiting'", workspace, site, size, snapshot)
}

// Run finds a run.
func (q Queries) Run(ctx context.Context, id int64) (Run, error) {
	return one[Run](ctx, q.db, "SELECT "+runColumns+" FROM runs WHERE id = $1", id)
}

// Runs lists a workspace's runs, newest first.
func (q Queries) Runs(ctx context.Context, workspace int64, limit int) ([]Run, error) {
	return many[Run](ctx, q.db, "SELECT "+runColumns+" FROM runs WHERE workspace = $1 ORDER BY id DESC LIMIT $2", workspace, limit)
}

// Steps lists the steps of runs, in order.
func (q Queries) Steps(ctx context.Context, runs ...int64) ([]Step, error) {
	return many[Step](ctx, q.db, "SELECT "+stepColumns+" FROM steps WHERE run = ANY($1) ORDER BY run, position", runs)
}

// Lease is how long a run stays its holder's without being renewed.
const Lease = 30 * time.Second

var lease = fmt.Sprintf("%d seconds", Lease/time.Second)

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
	return `EXISTS (SELECT 1 FROM pg_locks WHERE locktype = 'advisory' AND database = (SELECT oid FROM pg_database WHERE datname = current_database()) AND classid = ` + instanceClass + ` AND objid = ` + run + `.holder::oid AND granted)`
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

// held looks whether the run $1 is still its holder's, $2.
const held = "EXISTS (SELECT 1 FROM runs WHERE id = $1 AND holder = $2 AND state = 'running')"

// EndRun ends a run of this holder, notes how long its steps took, and tells of it.
func (q Queries) EndRun(ctx context.Context, w Workspace, r Run, state, reason string) error {
	b := told{about: Event{Account: w.Account, Workspace: w.Name, Run: r.ID}}
	b.batch.Queue(`INSERT INTO step_times (source, step, last, mean)
		SELECT $3, s.name, s.took, s.took FROM (SELECT name, (extract(epoch FROM sum(ended - started)) * 1000)::bigint AS took
			FROM steps WHERE run = $1 AND state = 'done' AND started IS NOT NULL AND ended IS NOT NULL AND `+held+` GROUP BY name ORDER BY name) s
		ON CONFLICT (source, step) DO UPDATE SET last = excluded.last, mean = (3 * step_times.mean + excluded.last) / 4`, r.ID, r.Holder, w.Source)
	b.add("run", state, "UPDATE runs SET state = $3, reason = $4, ended = now(), lease_until = NULL WHERE id = $1 AND holder = $2 AND state = 'running'", r.ID, r.Holder, state, reason)
	return b.send(ctx, q.db)
}

// Advance writes down, in one transaction, how far a run has come: lines of its log and
// steps as they are now, in their order, and tells of it. A run whose lease was lost is not
// written to: ErrLost.
func (q Queries) Advance(ctx context.Context, w Workspace, r Run, lines []LogLine, steps ...Step) error {
	b := told{about: Event{Account: w.Account, Workspace: w.Name, Run: r.ID}}
	if len(lines) > 0 {
		number, step, at, text := columns(lines)
		b.add("log", "", "INSERT INTO log (run, number, step, at, text) SELECT $1, l.* FROM unnest($3::bigint[], $4::integer[], $5::timestamptz[], $6::text[]) AS l WHERE "+held+" ON CONFLICT (run, number) DO UPDATE SET step = excluded.step, at = excluded.at, text = excluded.text",
			r.ID, r.Holder, number, step, at, text)
	}
	for _, s := range steps {
		b.add("step", s.State, "UPDATE steps SET state = $4, reason = $5, attempts = $6, result = $7, started = $8, ended = $9, code = $10 WHERE run = $1 AND position = $3 AND "+held,
			r.ID, r.Holder, s.Position, s.State, s.Reason, s.Attempts, s.Result, s.Started, s.Ended, s.Code)
	}
	return b.send(ctx, q.db)
}

// ReleaseRun gives the lease back, for an orderly stop: another instance may go on at once.
func (q Queries) ReleaseRun(ctx context.Context, r Run) error {
	_, err := q.db.Exec(ctx, "UPDATE runs SET holder = NULL, lease_until = NULL, carried = false WHERE id = $1 AND holder = $2 AND state = 'running'", r.ID, r.Holder)
	return err
}

// CancelRuns ends a workspace's unfinished run from outside. Its holder notices when it
// next writes or renews.
func (q Queries) CancelRuns(ctx context.Context, w Workspace, reason string) error {
	return q.changeAndTell(ctx, nil, Event{Type: "run", Account: w.Account, Workspace: w.Name, State: Failed},
		"UPDATE runs SET state = 'failed', reason = $2, ended = now() WHERE workspace = $1 AND state IN ('waiting', 'running')", w.ID, reason)
}

// SetStateByRun sets a workspace's state on behalf of a run, unless the run was taken away
// or ended from outside: ErrLost.
func (q Queries) SetStateByRun(ctx context.Context, w Workspace, r Run, state, reason string) error {
	return q.changeAndTell(ctx, ErrLost, Event{Type: "workspace", Account: w.Account, Workspace: w.Name, State: state}, `UPDATE workspaces SET state = $2, reason = $3 WHERE id = $1
		AND EXISTS (SELECT 1 FROM runs WHERE id = $4 AND holder = $5 AND state = 'running')`, w.ID, state, reason, r.ID, r.Holder)
}

// StepMillis tells how long the steps of a source's workspaces took on average, by name,
// the later ones weighing more.
func (q Queries) StepMillis(ctx context.Context, source string) (map[string]int64, error) {
	type row struct {
		Step string
		Mean int64
	}
	rows, err := many[row](ctx, q.db, "SELECT step, mean FROM step_times WHERE source = $1", source)
	if err != nil {
		return nil, err
	}
	millis := make(map[string]int64, len(rows))
	for _, r := range rows {
		millis[r.Step] = r.Mean
	}
	return millis, nil
}
