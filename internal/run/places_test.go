package run

import (
	"io"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/site/sitetest"
)

// A site that is removed, and added again by the same name for another host, has nothing of the
// earlier one: a plan would be made for a machine that is not there.
func TestASiteThatComesAgainIsAnother(t *testing.T) {
	store, err := records.Open(t.Context(), database.URL)
	require.NoError(t, err)
	t.Cleanup(store.Close)
	processors := map[string]int{"ssh://crew@skiff": 4, "ssh://crew@barge": 16}
	left := map[string]int{}
	r, err := New(t.Context(), Options{Store: store, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
		Open: func(v records.Site) (site.Site, func(), error) {
			return &sitetest.Nowhere{Facts: site.Facts{Processors: processors[v.Address]}}, func() { left[v.Address]++ }, nil
		}})
	require.NoError(t, err)
	add := func(address string) {
		require.NoError(t, r.AddSite(t.Context(), records.Site{Name: "mooring", Kind: string(site.Remote), Address: address, HostKey: "ssh-ed25519 AAAA"}))
	}
	add("ssh://crew@skiff")
	earlier, _ := r.places.find("mooring")
	found, err := r.Look(t.Context(), "mooring")
	require.NoError(t, err)
	assert.Equal(t, 4, found.Processors)
	assert.ErrorContains(t, r.RemoveSite(t.Context(), "mooring"), "takes workspaces")
	require.NoError(t, r.DrainSite(t.Context(), "mooring", true))
	require.NoError(t, r.RemoveSite(t.Context(), "mooring"))
	assert.Equal(t, map[string]int{"ssh://crew@skiff": 1}, left, "its connection is closed, once")
	assert.NotContains(t, r.SiteNames(), "mooring")

	add("ssh://crew@barge")
	assert.Zero(t, r.Examined("mooring").At, "it was not looked at yet")
	r.lookAt(t.Context(), "mooring", earlier) // one that is late with what it found
	assert.Zero(t, r.Examined("mooring").Processors)
	found, err = r.Look(t.Context(), "mooring")
	require.NoError(t, err)
	assert.Equal(t, 16, found.Processors)
	require.NoError(t, r.DrainSite(t.Context(), "mooring", true))
	require.NoError(t, r.RemoveSite(t.Context(), "mooring"))
}

// A site that the service was given at an earlier start, and cannot be opened any more, keeps nothing
// else from its work; one that it is given now does.
func TestAGivenSiteThatCannotBeOpened(t *testing.T) {
	store, err := records.Open(t.Context(), database.URL)
	require.NoError(t, err)
	t.Cleanup(store.Close)
	_, err = store.GiveSites(t.Context(), []records.Site{{Name: "berths", Kind: string(site.VM), Address: "/gone"}})
	require.NoError(t, err)
	options := Options{Store: store, Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Open: func(v records.Site) (site.Site, func(), error) {
		if v.Address == "/gone" {
			return nil, nil, io.ErrUnexpectedEOF
		}
		return &sitetest.Nowhere{}, nil, nil
	}}
	r, err := New(t.Context(), options)
	require.NoError(t, err)
	assert.NotContains(t, r.SiteNames(), "berths")
	options.Given = []string{"berths"}
	_, err = New(t.Context(), options)
	assert.ErrorContains(t, err, "open the site berths")
	require.NoError(t, store.DrainSite(t.Context(), "berths", true))
	require.NoError(t, store.RemoveSite(t.Context(), "berths"))
}
