package run

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"domicile/internal/artifact"
	"domicile/internal/credential"
	"domicile/internal/daemons"
	"domicile/internal/daemons/daemonstest"
	"domicile/internal/fault"
	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/site/sitetest"
	"domicile/internal/source"
)

// noVault keeps nothing of anybody.
type noVault struct{}

func (noVault) Login(context.Context, int64, string) (*source.Login, error) { return nil, nil }
func (noVault) Secrets(context.Context, int64, string, []string) (map[string]string, error) {
	return nil, nil
}

var database *daemons.Postgres

func TestMain(m *testing.M) { os.Exit(daemonstest.Postgres(m, &database)) }

// berth is a runner at work for one account, at a place of its own.
type berth struct {
	*Runner
	place   *sitetest.Nowhere
	store   *records.Store
	account int64
	folder  string // the source
}

// moor starts a runner whose source has these files.
func moor(t *testing.T, files map[string]string) *berth {
	t.Helper()
	ctx := t.Context()
	store, err := records.Open(ctx, database.URL)
	require.NoError(t, err)
	t.Cleanup(store.Close)
	account, err := store.AddAccount(ctx, filepath.Base(t.TempDir())+t.Name(), "hash", false)
	require.NoError(t, err)
	b := &berth{place: &sitetest.Nowhere{Facts: site.Facts{Processors: 4, MemoryBytes: 8 << 30}}, store: store, account: account.ID, folder: filepath.Join(t.TempDir(), "tide")}
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(b.folder, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(b.folder, name), []byte(text), 0o644))
	}
	seal, err := credential.OpenSeal(t.TempDir())
	require.NoError(t, err)
	keys, err := credential.NewKeys(seal)
	require.NoError(t, err)
	// Each test has a site of its own name: what others left in the records is not there.
	b.Runner, err = New(ctx, Options{Store: store, Sites: map[string]site.Site{t.Name(): b.place}, Source: &source.Fetcher{Folder: t.TempDir(), Allowed: []string{b.folder}},
		Artifacts: &artifact.Store{Folder: t.TempDir(), Offline: true}, Vault: noVault{}, Keys: keys, Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Pause: time.Millisecond, Tries: 4})
	require.NoError(t, err)
	serving, stop := context.WithCancel(context.WithoutCancel(ctx))
	ended := make(chan error)
	go func() { ended <- b.Serve(serving) }()
	t.Cleanup(func() {
		stop()
		require.NoError(t, <-ended)
	})
	return b
}

func (b *berth) provision(t *testing.T, name string) records.Workspace {
	t.Helper()
	w, err := b.Provision(t.Context(), Request{Account: b.account, Source: b.folder, Name: name, Site: t.Name()})
	require.NoError(t, err)
	return w
}

// ended waits until a workspace's newest run is over, and gives it with its steps.
func (b *berth) ended(t *testing.T, w records.Workspace) (r records.Run, steps map[string]records.Step) {
	t.Helper()
	require.Eventually(t, func() bool {
		runs, err := b.store.Runs(t.Context(), w.ID, 1)
		require.NoError(t, err)
		if len(runs) == 0 {
			return true // the workspace is gone, and its runs with it
		}
		r = runs[0]
		return r.State == records.Succeeded || r.State == records.Failed
	}, time.Minute, 5*time.Millisecond)
	list, err := b.store.Steps(t.Context(), r.ID)
	require.NoError(t, err)
	steps = map[string]records.Step{}
	for _, s := range list {
		steps[s.Name] = s
	}
	return r, steps
}

// passing is a fault that may pass.
func passing(times int) func(context.Context) error {
	var mu sync.Mutex
	return func(context.Context) error {
		mu.Lock()
		defer mu.Unlock()
		if times--; times >= 0 {
			return fault.Transient(errors.New("no wind"), "becalmed", "", "the place does not answer")
		}
		return nil
	}
}
