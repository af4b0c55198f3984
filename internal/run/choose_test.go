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

// apart is a site where each workspace has a machine of its own.
type apart struct{ *sitetest.Nowhere }

func (apart) Abilities() site.Abilities { return site.Abilities{Apart: true} }

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
		not         map[string]string
		prices      map[string]string // by site
		at, because string
		fails       string
		passes      bool // it may be otherwise later
	}{
		"one alone":                   {sites: map[string]site.Site{here: full}, at: here, because: "it is the only one"},
		"one has the image":           {sites: map[string]site.Site{here: small, there: full}, at: there, because: "it has the image", not: map[string]string{here: "it has not the image"}},
		"one has fewer":               {sites: map[string]site.Site{here: full, there: full}, at: there, because: "it has the fewest workspaces for its memory", not: map[string]string{here: "it has more workspaces for its memory"}},
		"one costs less":              {sites: map[string]site.Site{here: full, there: small}, prices: map[string]string{here: "0.02EUR", there: "0.01EUR"}, at: there, because: "it costs least", not: map[string]string{here: "it costs 0.02 EUR an hour, 14.60 EUR a month"}},
		"one needs no machine":        {sites: map[string]site.Site{here: apart{&sitetest.Nowhere{}}, there: small}, at: there, because: "it needs no machine of its own", not: map[string]string{here: "no machine of its own is needed"}},
		"a machine costs less":        {sites: map[string]site.Site{here: apart{&sitetest.Nowhere{}}, there: small}, prices: map[string]string{there: "0.01EUR"}, at: here, because: "it costs least", not: map[string]string{there: "it costs 0.01 EUR an hour, 7.30 EUR a month"}},
		"one costs nothing":           {sites: map[string]site.Site{here: full, there: full}, prices: map[string]string{there: "0.01DKK"}, at: here, because: "it costs least", not: map[string]string{there: "it costs 0.01 DKK an hour, 7.30 DKK a month"}},
		"one has the image and more":  {sites: map[string]site.Site{here: full, there: small}, at: here, because: "it has the image", not: map[string]string{there: "it has not the image"}},
		"all the same":                {sites: map[string]site.Site{"b": full, "a": full}, at: "a", because: "it is the first of those that are as good", not: map[string]string{"b": "it is as good, and behind by its name"}},
		"one is away":                 {sites: map[string]site.Site{here: full, there: full}, gone: there, at: here, because: "the site " + there + " does not answer", not: map[string]string{there: "it does not answer: the engine does not answer: no wind"}},
		"one is drained":              {sites: map[string]site.Site{here: full, there: full}, drained: []string{there}, at: here, because: "it is the only one", not: map[string]string{there: "it takes nothing new"}},
		"all are drained":             {sites: map[string]site.Site{here: full}, drained: []string{here}, fails: "no site takes anything new"},
		"one cannot":                  {sites: map[string]site.Site{here: full, there: full}, cannot: map[string]error{there: tooSmall}, at: here, because: "the site " + there + " cannot: it needs 99 processors", not: map[string]string{there: "it cannot: it needs 99 processors"}},
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
			best, err := r.choose(t.Context(), func(at string) (*plan.Plan, error) {
				size := plan.Size{Name: "small"}
				if text := c.prices[at]; text != "" {
					var err error
					size.Price, err = plan.ParsePrice(text)
					require.NoError(t, err)
				}
				return &plan.Plan{Size: size, Container: plan.Container{Image: "quay.test/base:12"}}, c.cannot[at]
			})
			if c.fails != "" {
				require.ErrorContains(t, err, c.fails)
				assert.Equal(t, c.passes, fault.IsTransient(err))
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.at, best.at.name)
			assert.Equal(t, c.because, best.reason)
			for _, o := range best.others {
				assert.NotEqual(t, c.at, o.Site)
				assert.Equal(t, c.not[o.Site], o.Why)
			}
			assert.Len(t, best.others, len(c.sites)-1, "of each other it is told why not")
		})
	}
}
