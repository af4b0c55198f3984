package run

import (
	"context"
	"errors"
	"log/slog"
	"testing"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/site/sitetest"
)

// hold is a site that has things that nothing uses, and a disk that they are on.
type hold struct {
	*sitetest.Nowhere
	measured
	left    []site.Leftover
	removed []string
	inUse   string // what cannot be removed
}

func (h *hold) Leftovers(ctx context.Context, known func(context.Context) ([]string, error)) ([]site.Leftover, error) {
	_, err := known(ctx)
	return h.left, err
}

func (h *hold) RemoveLeftover(_ context.Context, l site.Leftover) error {
	if l.Name == h.inUse {
		return errors.New("a container uses it")
	}
	h.removed = append(h.removed, l.Name)
	h.free += l.Bytes
	return nil
}

// Images that nothing uses go when they are old, or when the disk is short: the oldest first,
// and no more than is needed. What is made by nobody again stays for a person to decide.
func TestImagesThatNothingUsesGo(t *testing.T) {
	store, err := records.Open(t.Context(), database.URL)
	require.NoError(t, err)
	defer store.Close()
	plans, err := lru.New[int64, keptPlan](1)
	require.NoError(t, err)
	const giga = 1 << 30
	day := 24 * time.Hour
	image := func(name string, age time.Duration) site.Leftover {
		return site.Leftover{Kind: "image", Name: name, Bytes: giga, Again: true, Made: time.Now().Add(-age)}
	}
	at := func(free int64) (*hold, *diskWatch) {
		h := &hold{Nowhere: &sitetest.Nowhere{}, measured: measured{free: free}, left: []site.Leftover{image("yesterday", day), image("spring", 90*day), image("winter", 200*day),
			{Kind: "volume", Name: "old", Made: time.Now().Add(-300 * day)}, {Kind: "image", Name: "of-no-time", Again: true}}}
		r := &Runner{plans: plans, o: Options{Store: store, DiskReserve: giga, KeepImages: 14 * day, Log: slog.New(slog.DiscardHandler)}, places: placesOf(map[string]site.Site{t.Name(): h}, nil)}
		return h, &diskWatch{Runner: r, site: t.Name(), at: h, told: map[int64]time.Time{}}
	}
	byAge := func(l site.Leftover) bool { return time.Since(l.Made) > 14*day }

	h, w := at(100 * giga)
	require.NoError(t, w.dropImages(t.Context(), t.Name(), byAge))
	assert.Equal(t, []string{"winter", "spring"}, h.removed)

	h, w = at(100 * giga)
	h.inUse = "winter"
	require.NoError(t, w.dropImages(t.Context(), t.Name(), byAge))
	assert.Equal(t, []string{"spring"}, h.removed, "what came into use meanwhile stays, and the others go")

	h, w = at(100 * giga)
	require.NoError(t, w.look(t.Context()))
	assert.Empty(t, h.removed, "there is room")

	h, w = at(3*giga + 1)
	require.NoError(t, w.look(t.Context()))
	assert.Equal(t, []string{"winter"}, h.removed, "then there is room")
	h.free = 3 * giga
	require.NoError(t, w.look(t.Context()))
	assert.Len(t, h.removed, 1, "it is not looked again at once")

	h, w = at(0)
	require.NoError(t, w.look(t.Context()))
	assert.Equal(t, []string{"winter", "spring", "yesterday"}, h.removed)
}

// What a workspace is planned with is known to who looks for leftovers.
func TestPlannedImagesAreKnown(t *testing.T) {
	b := moor(t, map[string]string{".devcontainer.json": `{"image": "quay.test/base:12"}`})
	w, err := b.store.AddWorkspace(t.Context(), records.Workspace{Account: b.account, Name: "planned", Source: b.folder, Site: "far", State: records.Making, Wanted: records.WantRunning, Kind: records.IsWorkspace})
	require.NoError(t, err)
	require.NoError(t, b.store.SetPlan(t.Context(), w.ID, "c0", []byte(`{"recipe": {"base": "quay.test/base:12", "digest": "abc"}}`)))
	ids, err := b.known(t.Context())
	require.NoError(t, err)
	assert.Contains(t, ids, w.SiteID())
	assert.Contains(t, ids, "domicile-image:abc")
}
