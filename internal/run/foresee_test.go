package run

import (
	"fmt"
	"testing"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/definition"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/site/sitetest"
	"domicile/internal/source"
)

func TestTheFoldersInWhichFilesWouldBeLost(t *testing.T) {
	assert.Equal(t, []string{"/home/crew", "/opt/tools", "/"}, foldersOf([]string{"/home/crew/.cargo/bin/x", "/home/crew/note", "/opt/tools/a/b", "/tmp/x", "/var/cache/apt/y", "/run/z", "/top"}))
	assert.Empty(t, foldersOf([]string{"/tmp", "/tmp/a", "/var/log/b", "/proc/1"}))
	var many []string
	for i := range 40 {
		many = append(many, fmt.Sprintf("/srv/%d/file", i))
	}
	list := foldersOf(many)
	assert.Len(t, list, maxFolders+1)
	assert.Equal(t, "and elsewhere", list[maxFolders])
}

func TestWhatChangedBetweenPlans(t *testing.T) {
	before := &plan.Plan{Steps: []plan.Step{{Name: "image", Digest: "a"}, {Name: "container", Digest: "b"}, {Name: "ready"}}}
	after := &plan.Plan{Steps: []plan.Step{{Name: "image", Digest: "a"}, {Name: "container", Digest: "c", Title: "Make the container"}, {Name: "ready"}, {Name: "postStartCommand", Digest: "d", Title: "Run postStartCommand"}}}
	var titles []string
	for _, s := range changed(before, after) {
		titles = append(titles, s.Title)
	}
	assert.Equal(t, []string{"Make the container", "Run postStartCommand"}, titles)
	assert.Empty(t, changed(before, before))
}

// After how long without use a workspace stops: what its definition says, else the
// service; where it is to be left alone, only if it says so itself.
func TestIdleLimits(t *testing.T) {
	r := &Runner{o: Options{IdleStop: 4 * time.Hour}}
	for name, c := range map[string]struct {
		said, shutdown string
		want           time.Duration
	}{
		"the service's": {"", "stopContainer", 4 * time.Hour}, "its own": {"90m", "stopContainer", 90 * time.Minute}, "never": {"never", "stopContainer", 0},
		"left alone": {"", "none", 0}, "left alone, but": {"1h", "none", time.Hour}, "nonsense": {"soon", "", 4 * time.Hour},
	} {
		p := &plan.Plan{Shutdown: c.shutdown, Domicile: &definition.Domicile{IdleStop: c.said}}
		assert.Equal(t, c.want, r.idleLimit(p), name)
	}
	assert.Equal(t, 4*time.Hour, r.idleLimit(&plan.Plan{}))
	// Where it costs money a definition alone does not have it go on.
	dear := plan.Size{Price: plan.Price{Hour: 1, Currency: "EUR"}}
	for said, want := range map[string]time.Duration{"never": 4 * time.Hour, "100h": 4 * time.Hour, "1h": time.Hour, "": 4 * time.Hour} {
		assert.Equal(t, want, r.idleLimit(&plan.Plan{Size: dear, Domicile: &definition.Domicile{IdleStop: said}}), said)
	}
	assert.Equal(t, 4*time.Hour, r.idleLimit(&plan.Plan{Size: dear, Shutdown: "none"}))
}

func TestOneProcessCarriesARunOnce(t *testing.T) {
	noticed, err := lru.New[int64, time.Time](1)
	require.NoError(t, err)
	r := &Runner{carried: map[int64]bool{}, noticed: noticed}
	require.True(t, r.begins(7))
	assert.False(t, r.begins(7))
	assert.True(t, r.begins(8))
	r.ends(7)
	assert.True(t, r.begins(7))
}

func TestWhoMayMountAFolder(t *testing.T) {
	folder, git := source.Address{Folder: "/srv/x"}, source.Address{Git: "https://h/x"}
	sites := placesOf(map[string]site.Site{"quay": &sitetest.Nowhere{}}, nil)
	closed, open := &Runner{places: sites}, &Runner{places: sites, o: Options{Policy: judge.Policy{judge.AllowHostMounts}}}
	assert.NoError(t, closed.mayMount(Request{}, git))
	assert.ErrorContains(t, closed.mayMount(Request{Mount: true}, folder), "not allowed here")
	assert.ErrorContains(t, open.mayMount(Request{Mount: true}, git), "cannot be mounted")
	assert.NoError(t, open.mayMount(Request{Mount: true}, folder))

	own := judge.Policy{}
	open.places.change("quay", func(at *place) { at.own.Allow = &own })
	assert.ErrorContains(t, open.mayMount(Request{Mount: true}, folder), "not allowed here", "the only site does not allow it")
	assert.ErrorContains(t, open.mayMount(Request{Mount: true, Site: "quay"}, folder), "not allowed here")
	assert.NoError(t, open.mayMount(Request{Mount: true, Site: "elsewhere"}, folder), "what the service allows")
}

func TestHelpersAreNoWorkspaces(t *testing.T) {
	assert.NoError(t, ownOnly(records.Workspace{Kind: records.IsWorkspace}))
	assert.ErrorContains(t, ownOnly(records.Workspace{Kind: records.IsHelper, Name: "deck.tools"}), "deck.tools is a helper")
	assert.Equal(t, "tools", HelperName(records.Workspace{Name: "deck.tools"}))
}

func TestOnlyTheSecretsThatAreAskedFor(t *testing.T) {
	all := map[string]string{"A": "1", "B": "2"}
	assert.Equal(t, map[string]string{"B": "2"}, chosen(all, []string{"B", "C"}))
	c := &execution{out: outputs{secrets: all, plan: &plan.Plan{Secrets: []string{"A"}}}, run: records.Run{Kind: records.KindProvision}}
	for stage, want := range map[string]int{"onCreateCommand": 0, "updateContentCommand": 0, "postCreateCommand": 1, "postStartCommand": 1, "postAttachCommand": 1} {
		assert.Len(t, c.secretsFor(stage), want, stage)
	}
	c.run.Kind = records.KindPrepare
	assert.Empty(t, c.secretsFor("postCreateCommand"), "nobody is known when a source is prepared")
}
