package run

import (
	"context"
	"encoding/json"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/site/sitetest"
)

// shoal is a site of which a test says what is there.
type shoal struct {
	*sitetest.Nowhere
	there map[string]site.Instance
}

func (s *shoal) Find(_ context.Context, workspace string) (site.Instance, bool, error) {
	i, found := s.there[workspace]
	return i, found, nil
}

// What is compared with the records: what should run is started, what is gone is said, and
// what nobody wants is left alone.
func TestWhatIsMadeOfWhatASiteHas(t *testing.T) {
	b := moor(t, map[string]string{".devcontainer.json": `{"image": "quay.test/base:12"}`})
	const far = "a site that only this test looks at"
	p, err := json.Marshal(plan.Plan{Services: []plan.Service{{Name: "db"}}})
	require.NoError(t, err)
	at := func(name, state, wanted string) records.Workspace {
		w, err := b.store.AddWorkspace(t.Context(), records.Workspace{Account: b.account, Name: name, Source: b.folder, Site: far, State: state, Wanted: wanted, Kind: records.IsWorkspace})
		require.NoError(t, err)
		require.NoError(t, b.store.SetPlan(t.Context(), w.ID, "c0", p))
		w, err = b.store.Workspace(t.Context(), w.ID)
		require.NoError(t, err)
		return w
	}
	db := site.Service{Name: "db", Running: true, Started: true}
	ended, interrupted := site.Service{Name: "db", Started: true, ExitCode: 1}, site.Service{Name: "db", Started: true, ExitCode: 137, Interrupted: true}
	cases := map[string]struct {
		state, wanted string
		there         *site.Instance // nil: there is none
		away          bool
		want          string // its state then
		note          string // why a run was made; empty: none was
	}{
		"runs":                        {records.Ready, records.WantRunning, &site.Instance{Running: true, Services: []site.Service{db}}, false, records.Ready, ""},
		"is gone":                     {records.Ready, records.WantRunning, nil, false, records.Lost, ""},
		"is back":                     {records.Lost, records.WantRunning, &site.Instance{Running: true, Services: []site.Service{db}}, false, records.Ready, ""},
		"stopped by itself":           {records.Ready, records.WantRunning, &site.Instance{}, false, records.Starting, "it had stopped by itself"},
		"stopped with its site":       {records.Lost, records.WantRunning, &site.Instance{}, false, records.Starting, "it had stopped with its site"},
		"stopped while nobody looked": {records.Ready, records.WantRunning, &site.Instance{}, true, records.Starting, "it had stopped while the service did not run"},
		"is to be stopped":            {records.Ready, records.WantStopped, &site.Instance{}, false, records.Ready, ""},
		"is stopped":                  {records.Stopped, records.WantStopped, &site.Instance{Running: true}, false, records.Stopped, ""},
		"failed":                      {records.Failed, records.WantRunning, nil, false, records.Failed, ""},
		"has lost a service":          {records.Ready, records.WantRunning, &site.Instance{Running: true}, false, records.Starting, "its service db was removed"},
		"has one that was stopped":    {records.Ready, records.WantRunning, &site.Instance{Running: true, Services: []site.Service{interrupted}}, false, records.Starting, "its service db was stopped"},
		"has one that ended":          {records.Ready, records.WantRunning, &site.Instance{Running: true, Services: []site.Service{ended}}, false, records.Ready, ""},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			w := at(name, c.state, c.wanted)
			s := &shoal{Nowhere: &sitetest.Nowhere{}, there: map[string]site.Instance{}}
			var list []site.Instance
			if c.there != nil {
				c.there.Workspace = w.SiteID()
				s.there[w.SiteID()], list = *c.there, []site.Instance{*c.there}
			}
			require.NoError(t, b.compare(t.Context(), far, place{name: far, Site: s, can: site.Can(s)}, list, c.away))
			runs, err := b.store.Runs(t.Context(), w.ID, 5)
			require.NoError(t, err)
			if c.note == "" {
				assert.Empty(t, runs)
				now, err := b.store.Workspace(t.Context(), w.ID)
				require.NoError(t, err)
				assert.Equal(t, c.want, now.State)
			} else if assert.Len(t, runs, 1) {
				assert.Equal(t, records.KindStart, runs[0].Kind)
				assert.Equal(t, c.note, runs[0].Note)
			}
			require.NoError(t, b.store.RemoveWorkspace(t.Context(), w))
		})
	}
}

// A site that does not answer makes ready workspaces lost, with the reason, and no others.
func TestASiteThatDoesNotAnswer(t *testing.T) {
	b := moor(t, map[string]string{".devcontainer.json": `{"image": "quay.test/base:12"}`})
	const far = "another site that only this test looks at"
	state := map[string]string{}
	for name, s := range map[string]string{"sails": records.Ready, "rests": records.Stopped, "sank": records.Failed} {
		w, err := b.store.AddWorkspace(t.Context(), records.Workspace{Account: b.account, Name: name, Source: b.folder, Site: far, State: s, Wanted: records.WantRunning, Kind: records.IsWorkspace})
		require.NoError(t, err)
		defer func() { require.NoError(t, b.store.RemoveWorkspace(context.WithoutCancel(t.Context()), w)) }()
		state[name] = s
	}
	b.unreachable(t.Context(), far, fault.Transient(errors.New("no wind"), "engine-unavailable", "", "the engine does not answer"))
	state["sails"] = records.Lost
	for name, want := range state {
		w, err := b.store.WorkspaceByName(t.Context(), b.account, name)
		require.NoError(t, err)
		assert.Equal(t, want, w.State, name)
		if want == records.Lost {
			assert.Contains(t, w.Reason, "its site does not answer: the engine does not answer")
		}
	}
	assert.ErrorContains(t, b.Examined(far).Err, "does not answer")
	assert.WithinDuration(t, time.Time{}, b.Examined(far).At, 0, "it was never examined")
}
