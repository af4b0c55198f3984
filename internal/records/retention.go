package records

import (
	"context"
	"time"
)

// Retention says how long what nobody needs any more is kept.
type Retention struct {
	// Runs is how long a run that is over stays, with its steps and its log; 0: for ever.
	Runs time.Duration
	// Newest is how many of a workspace's runs stay however old they are.
	Newest int
	// SignIns is how long it is kept who signed in or tried to.
	SignIns time.Duration
}

// UsualRetention are the defaults.
var UsualRetention = Retention{Runs: 90 * 24 * time.Hour, Newest: 20, SignIns: 90 * 24 * time.Hour}

// Prune removes what has been kept long enough: runs that are over, tokens that do not count
// any more, sign-ins, and the records of instances of the service that have ended.
func (q Queries) Prune(ctx context.Context, r Retention) error {
	for _, one := range []struct {
		sql  string
		args []any
		when bool
	}{
		{"DELETE FROM tokens WHERE expires < now()", nil, true},
		{"DELETE FROM sign_ins WHERE at < now() - $1::interval", []any{r.SignIns}, r.SignIns > 0},
		{`DELETE FROM runs WHERE ended < now() - $1::interval AND state NOT IN ('waiting', 'running')
			AND id NOT IN (SELECT id FROM (SELECT id, row_number() OVER (PARTITION BY workspace ORDER BY id DESC) AS nth FROM runs) ranked WHERE nth <= $2)`, []any{r.Runs, r.Newest}, r.Runs > 0},
		// Each attach is a run: who connects all day would fill the table in 90 days.
		{`DELETE FROM runs WHERE kind = '` + KindAttach + `' AND ended < now() - interval '1 day'
			AND id NOT IN (SELECT id FROM (SELECT id, row_number() OVER (PARTITION BY workspace ORDER BY id DESC) AS nth FROM runs) ranked WHERE nth <= $1)`, []any{r.Newest}, r.Runs > 0},
		// An instance lives while its lock is held. One that has only just begun may not have it
		// yet, and one that a run is still waiting to be taken from is named there.
		{`DELETE FROM instances WHERE started < now() - interval '1 hour'
			AND NOT EXISTS (SELECT 1 FROM runs WHERE holder = instances.id AND state = 'running')
			AND NOT EXISTS (SELECT 1 FROM pg_locks WHERE locktype = 'advisory' AND database = (SELECT oid FROM pg_database WHERE datname = current_database()) AND classid = ` + instanceClass + ` AND objid = instances.id::oid AND granted)`, nil, true},
	} {
		if !one.when {
			continue
		}
		if _, err := q.db.Exec(ctx, one.sql, one.args...); err != nil {
			return err
		}
	}
	return nil
}
