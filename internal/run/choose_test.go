package run

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/site/sitetest"
)

// without is a site that has no image.
type without struct{ *sitetest.Nowhere }

func (without) HasImage(context.Context, judge.Image) (bool, error) { return false, nil }

func TestWhereAPlanPlacesAWorkspace(t *testing.T) {
	store, err := records.Open(t.Context(), database.URL)
	require.NoError(t, err)
	defer store.Close()
	account, err := store.AddAccount(t.Context(), t.Name(), "hash", false)
	require.NoError(t, err)
	busy := func(name string) string { return t.Name() + "-busy-" + name }
	here, there := busy("here"), busy("there")
	for _, name := range []string{"one", "two"} {
		_, err := store.AddWorkspace(t.Context(), records.Workspace{Account: account.ID, Name: name, Source: "x", Site: here, State: records.Ready, Wanted: records.WantRunning, Kind: records.IsWorkspace})
		require.NoError(t, err)
	}
	full, small := &sitetest.Nowhere{}, without{&sitetest.Nowhere{}}
	away := fault.Transient(errors.New("no wind"), "engine-unavailable", "", "the engine does not answer")
	tooSmall := fault.New("host-too-small", "", "it needs 99 processors")
	passing := fault.Transient(nil, "git-host-down", "", "the git host is away")
	for name, c := range map[string]struct {
		sites       map[string]site.Site
		drained     []string
		gone        string           // the site that does not answer
		cannot      map[string]error // by site
		at, because string
		fails       string
		passes      bool // it may be otherwise later
	}{
		"one alone":                   {sites: map[string]site.Site{here: full}, at: here, because: "it is the only one"},
		"one has the image":           {sites: map[string]site.Site{here: small, there: full}, at: there, because: "it has the image"},
		"one has fewer":               {sites: map[string]site.Site{here: full, there: full}, at: there, because: "it has the fewest workspaces for its memory"},
		"one has the image and more":  {sites: map[string]site.Site{here: full, there: small}, at: here, because: "it has the image"},
		"all the same":                {sites: map[string]site.Site{"b": full, "a": full}, at: "a", because: "it is the first of those that are as good"},
		"one is away":                 {sites: map[string]site.Site{here: full, there: full}, gone: there, at: here, because: "the site " + there + " does not answer"},
		"one is drained":              {sites: map[string]site.Site{here: full, there: full}, drained: []string{there}, at: here, because: "it is the only one"},
		"all are drained":             {sites: map[string]site.Site{here: full}, drained: []string{here}, fails: "no site takes anything new"},
		"one cannot":                  {sites: map[string]site.Site{here: full, there: full}, cannot: map[string]error{there: tooSmall}, at: here, because: "the site " + there + " cannot: it needs 99 processors"},
		"none can":                    {sites: map[string]site.Site{"a": full, "b": full}, cannot: map[string]error{"a": tooSmall, "b": fault.New("x", "", "it asks for a door")}, fails: "no site can hold this workspace: a: it needs 99 processors\nb: it asks for a door"},
		"none can, one is away":       {sites: map[string]site.Site{"a": full, "b": full}, gone: "b", cannot: map[string]error{"a": tooSmall}, fails: "b: the engine does not answer", passes: true},
		"none can, for one reason":    {sites: map[string]site.Site{"a": full, "b": full}, cannot: map[string]error{"a": tooSmall, "b": tooSmall}, fails: "it needs 99 processors"},
		"what passes is not a site's": {sites: map[string]site.Site{"a": full, "b": full}, cannot: map[string]error{"b": passing}, fails: "the git host is away", passes: true},
	} {
		t.Run(name, func(t *testing.T) {
			r := &Runner{o: Options{Store: store}, places: placesOf(c.sites, c.drained), facts: map[string]Examined{}}
			for of := range c.sites {
				r.facts[of] = Examined{Facts: site.Facts{MemoryBytes: 8 << 30}, At: time.Now()}
				if of == c.gone {
					r.facts[of] = Examined{At: time.Now(), Err: away}
				}
			}
			best, reason, err := r.choose(t.Context(), func(at string) (*plan.Plan, error) {
				return &plan.Plan{Container: plan.Container{Image: "quay.test/base:12"}}, c.cannot[at]
			})
			if c.fails != "" {
				require.ErrorContains(t, err, c.fails)
				assert.Equal(t, c.passes, fault.IsTransient(err))
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.at, best.at.name)
			assert.Equal(t, c.because, reason)
		})
	}
}
