package records

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A copy is due of what may have changed since the last one, and not again at once where it did not
// go.
func TestWhenACopyIsDue(t *testing.T) {
	ctx := t.Context()
	s := open(t)
	due := Due{Site: "skiff-" + t.Name(), At: "quay", Every: time.Hour, Again: 2 * time.Hour}
	t.Cleanup(func() { // a run that nobody has is somebody's to take over
		_, err := s.Pool.Exec(context.WithoutCancel(ctx), "DELETE FROM workspaces WHERE site = $1", "skiff-"+t.Name())
		assert.NoError(t, err)
	})
	for name, c := range map[string]struct {
		state string
		kind  string
		mount bool
		did   string // SQL: kind, state and end of its last run
		copy  string // how long ago a copy was kept; empty: none was
		at    string // where
		due   bool
	}{
		"none was kept":                 {state: Ready, due: true},
		"one that is stopped":           {state: Stopped, did: "'provision', 'done', now()", due: true},
		"one was kept a moment ago":     {state: Ready, copy: "1 minute", at: "quay"},
		"one was kept long ago":         {state: Ready, copy: "61 minutes", at: "quay", due: true},
		"one was kept elsewhere":        {state: Ready, copy: "1 minute", at: "reef", due: true},
		"one is being kept":             {state: Ready, did: "'copy', 'running', NULL"},
		"it did not go":                 {state: Ready, did: "'copy', 'failed', now() - interval '119 minutes'"},
		"it did not go long ago":        {state: Ready, did: "'copy', 'failed', now() - interval '121 minutes'", due: true},
		"it is stopped, as it was":      {state: Stopped, did: "'copy', 'done', now() - interval '1 day'", copy: "1 day", at: "quay"},
		"it was stopped since":          {state: Stopped, did: "'stop', 'done', now()", copy: "1 day", at: "quay", due: true},
		"it goes on":                    {state: Ready, did: "'copy', 'done', now() - interval '1 day'", copy: "1 day", at: "quay", due: true},
		"it is lost":                    {state: Lost},
		"it is being made":              {state: Making},
		"it is prepared":                {state: Ready, kind: IsPrepared},
		"its source is a host's folder": {state: Ready, mount: true},
	} {
		t.Run(name, func(t *testing.T) {
			account, err := s.AddAccount(ctx, "copies-"+name, "hash", false)
			require.NoError(t, err)
			w, err := s.AddWorkspace(ctx, Workspace{Account: account.ID, Name: "w", Source: "x", Site: due.Site, State: c.state, Kind: c.kind, Mount: c.mount, Wanted: WantRunning})
			require.NoError(t, err)
			if c.did != "" {
				_, err := s.Pool.Exec(ctx, "INSERT INTO runs (workspace, kind, state, ended) SELECT $1, kind, state, CAST(ended AS timestamptz) FROM (VALUES ("+c.did+")) v (kind, state, ended)", w.ID)
				require.NoError(t, err)
			}
			if c.copy != "" {
				kept, err := s.AddSnapshot(ctx, Snapshot{Kind: Personal, Copy: true, Account: account.ID, Workspace: &w.ID, Name: "w", Site: c.at, Source: "x", Plan: json.RawMessage("{}"), Done: json.RawMessage("{}")})
				require.NoError(t, err)
				require.NoError(t, s.KeepSnapshot(ctx, kept.ID, json.RawMessage("{}"), 1))
				_, err = s.Pool.Exec(ctx, "UPDATE snapshots SET created = now() - $2::interval WHERE id = $1", kept.ID, c.copy)
				require.NoError(t, err)
			}
			one := due
			one.Workspace = w.ID
			found, err := s.CopyDue(ctx, one)
			if !c.due {
				assert.ErrorIs(t, err, ErrNotFound)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, w.ID, found.ID)
		})
	}
	first, err := s.CopyDue(ctx, due)
	require.NoError(t, err, "of all of the site")
	assert.Equal(t, due.Site, first.Site)
	due.Site = "nowhere"
	_, err = s.CopyDue(ctx, due)
	assert.ErrorIs(t, err, ErrNotFound)
}
