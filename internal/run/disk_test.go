package run

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/records"
)

// measured is a disk that a test fills.
type measured struct {
	mu      sync.Mutex
	free    int64
	written map[string]int64
}

func (m *measured) Free(context.Context) (int64, bool, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.free, true, nil
}

func (m *measured) Written(context.Context) (map[string]int64, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := map[string]int64{}
	for id, n := range m.written {
		out[id] = n
	}
	return out, nil
}

// Who writes most is stopped, and who is only large is not.
func TestWhoFillsTheDiskIsStopped(t *testing.T) {
	b := moor(t, map[string]string{".devcontainer.json": `{"image": "quay.test/base:12"}`})
	ctx := t.Context()
	const unwatched = "a site that nobody compares with the records"
	add := func(name string) records.Workspace {
		w, err := b.store.AddWorkspace(ctx, records.Workspace{Account: b.account, Name: name, Source: b.folder, Site: unwatched, State: records.Ready, Wanted: records.WantRunning, Kind: records.IsWorkspace})
		require.NoError(t, err)
		return w
	}
	large, writer, quiet := add("large"), add("writer"), add("quiet")
	const giga = 1 << 30
	disk := &measured{free: 100 * giga, written: map[string]int64{large.SiteID(): 50 * giga, writer.SiteID(): giga, quiet.SiteID(): 0}}
	b.o.DiskReserve = 2 * giga
	w := &diskWatch{Runner: b.Runner, site: unwatched, at: disk, told: map[int64]time.Time{}}
	state := func(x records.Workspace) string {
		now, err := b.store.Workspace(ctx, x.ID)
		require.NoError(t, err)
		return now.Wanted
	}
	require.NoError(t, w.look(ctx))
	disk.free = giga
	require.NoError(t, w.look(ctx), "it is measured")
	require.NoError(t, w.look(ctx), "nobody writes")
	for _, x := range []records.Workspace{large, writer, quiet} {
		assert.Equal(t, records.WantRunning, state(x), x.Name)
	}
	disk.written[writer.SiteID()] += giga / 2
	disk.written[quiet.SiteID()] += 1 << 20
	require.NoError(t, w.look(ctx))
	assert.Equal(t, records.WantStopped, state(writer))
	for range 3 { // the disk is as full as before
		require.NoError(t, w.look(ctx))
	}
	assert.Equal(t, records.WantRunning, state(large))
	assert.Equal(t, records.WantRunning, state(quiet))
}
