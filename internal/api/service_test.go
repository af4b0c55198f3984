package api_test

import (
	"context"
	"domicile/internal/forwarded"
	"domicile/internal/gateway"
	"domicile/internal/hostkeys"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/api"
	"domicile/internal/artifact"
	"domicile/internal/client"
	"domicile/internal/credential"
	"domicile/internal/daemons"
	"domicile/internal/daemons/daemonstest"
	"domicile/internal/fault"
	"domicile/internal/guesses"
	"domicile/internal/records"
	"domicile/internal/run"
	"domicile/internal/site"
	"domicile/internal/site/sitetest"
	"domicile/internal/source"
	"domicile/internal/vault"
)

var database *daemons.Postgres

func TestMain(m *testing.M) { os.Exit(daemonstest.Postgres(m, &database)) }

// hostKeys are those of all services of the tests: making an RSA key takes its time.
var hostKeys = sync.OnceValues(func() (*hostkeys.Folder, error) {
	folder, err := os.MkdirTemp("", "hostkeys-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	return hostkeys.Open(folder)
})

// house is a whole service at a site that makes nothing, reached over HTTP.
type house struct {
	store   *records.Store
	handler http.Handler
	url     string
	site    *sitetest.Nowhere
	name    string // of the site
	source  string // a folder with a definition
	clients string // a folder with programs
}

func open(t *testing.T, facts site.Facts, definition string) *house {
	t.Helper()
	store, err := records.Open(t.Context(), database.URL)
	require.NoError(t, err)
	t.Cleanup(store.Close)
	h := &house{store: store, site: &sitetest.Nowhere{Facts: facts}, name: t.Name(), clients: t.TempDir(), source: filepath.Join(t.TempDir(), "tide")}
	require.NoError(t, os.MkdirAll(h.source, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(h.source, ".devcontainer.json"), []byte(definition), 0o644))
	seal, err := credential.OpenSeal(t.TempDir())
	require.NoError(t, err)
	keys, err := credential.NewKeys(seal)
	require.NoError(t, err)
	log, kept := slog.New(slog.DiscardHandler), &vault.Vault{Store: store, Seal: seal}
	fetcher, artifacts := &source.Fetcher{Folder: t.TempDir(), Allowed: []string{h.source}}, &artifact.Store{Folder: t.TempDir(), Offline: true}
	runner, err := run.New(t.Context(), run.Options{Store: store, Sites: map[string]site.Site{h.name: h.site}, Source: fetcher, Artifacts: artifacts, Vault: kept, Keys: keys, Log: log, Pause: time.Millisecond, Tries: 2})
	require.NoError(t, err)
	server := api.New(t.Context(), api.Options{Store: store, Runner: runner, Source: fetcher, Artifacts: artifacts, Registries: &api.Registries{Store: store, Seal: seal}, Vault: kept, Guesses: guesses.New(), Log: log, Version: "test", Proxies: forwarded.Proxies{netip.MustParsePrefix("192.0.2.0/24")}, Gateway: h.gateway(t, log),
		SetupCode: "only-once", SSH: "127.0.0.1:4322", Console: http.NotFoundHandler(), Clients: &api.Clients{Folder: h.clients}})
	h.handler = server.Handler()
	listening := httptest.NewServer(h.handler)
	t.Cleanup(listening.Close)
	h.url = listening.URL
	serving, stop := context.WithCancel(context.WithoutCancel(t.Context()))
	ended := make(chan error)
	go func() { ended <- runner.Serve(serving) }()
	t.Cleanup(func() {
		stop()
		require.NoError(t, <-ended)
	})
	return h
}

// gateway is an SSH server that only ends what was opened with credentials that ended.
func (h *house) gateway(t *testing.T, log *slog.Logger) *gateway.Server {
	t.Helper()
	keys, err := hostKeys()
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	g := &gateway.Server{Directory: h.store, HostKeys: keys.Now, Log: log}
	ctx, stop := context.WithCancel(context.WithoutCancel(t.Context()))
	ended := make(chan error)
	go func() { ended <- g.Serve(ctx, listener) }()
	t.Cleanup(func() {
		stop()
		require.NoError(t, <-ended)
	})
	return g
}

// person makes an account of a name that no other test uses, and signs it in.
func (h *house) person(t *testing.T, name string) *client.Service { return h.account(t, name, false) }

func (h *house) account(t *testing.T, name string, admin bool) *client.Service {
	t.Helper()
	account, err := h.store.AddAccount(t.Context(), name+"-of-"+t.Name(), "hash", admin)
	require.NoError(t, err)
	token := credential.NewToken()
	require.NoError(t, h.store.AddToken(t.Context(), account.ID, credential.HashToken(token), "test", time.Hour, 200))
	c, err := client.Open(h.url, token)
	require.NoError(t, err)
	return c
}

// made asks for a workspace and waits until its run is over. At this site it ends where
// the agent should answer.
func (h *house) made(t *testing.T, who *client.Service, name string) client.Workspace {
	t.Helper()
	_, err := client.Answer[client.Workspace](who.Provision(t.Context(), client.ProvisionRequest{Source: h.source, Name: &name}))
	require.NoError(t, err)
	return h.over(t, who, name)
}

func (h *house) over(t *testing.T, who *client.Service, name string) (w client.Workspace) {
	t.Helper()
	require.Eventually(t, func() bool {
		var err error
		w, err = client.Answer[client.Workspace](who.GetWorkspace(t.Context(), name))
		require.NoError(t, err)
		return w.Run.State == client.RunStateDone || w.Run.State == client.RunStateFailed
	}, 20*time.Second, 5*time.Millisecond)
	return w
}

const plain = `{"image": "quay.test/base:12", "forwardPorts": [8080], "portsAttributes": {"8080": {"label": "Sailings"}}}`

// Every way into the interface but those for who is not signed in yet wants a token.
func TestNothingIsGivenWithoutAToken(t *testing.T) {
	h := open(t, site.Facts{}, plain)
	routes, ok := h.handler.(chi.Routes)
	require.True(t, ok)
	asked := 0
	require.NoError(t, chi.Walk(routes, func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		if !strings.HasPrefix(route, "/api/v1/") || strings.HasSuffix(route, "/setup") || strings.HasSuffix(route, "/version") || route == "/api/v1/clients" || route == "/api/v1/session" && method == http.MethodPost {
			return nil
		}
		asked++
		for _, header := range []string{"", "Bearer", "Bearer no-such-token", "Basic c2tpcHBlcjp4"} {
			q := httptest.NewRequest(method, strings.NewReplacer("{name}", "tide", "{id}", "1", "{service}", "db", "{host}", "h").Replace(route), strings.NewReader("{}"))
			q.Header.Set("Content-Type", "application/json")
			if header != "" {
				q.Header.Set("Authorization", header)
			}
			w := httptest.NewRecorder()
			h.handler.ServeHTTP(w, q)
			assert.Equal(t, http.StatusUnauthorized, w.Code, "%s %s with %q", method, route, header)
			assert.Contains(t, w.Body.String(), "domicile login", "it says what to do")
		}
		return nil
	}))
	assert.Greater(t, asked, 40, "all operations")
}

// What is somebody else's looks as if it were not there, whatever is asked of it.
func TestOthersWorkspacesAreNotThere(t *testing.T) {
	h := open(t, site.Facts{}, plain)
	skipper, finn := h.person(t, "skipper"), h.person(t, "finn")
	h.made(t, skipper, "tide")
	ctx := t.Context()
	for what, ask := range map[string]func() (*http.Response, error){
		"get":      func() (*http.Response, error) { return finn.GetWorkspace(ctx, "tide") },
		"stop":     func() (*http.Response, error) { return finn.StopWorkspace(ctx, "tide") },
		"start":    func() (*http.Response, error) { return finn.StartWorkspace(ctx, "tide") },
		"remove":   func() (*http.Response, error) { return finn.RemoveWorkspace(ctx, "tide") },
		"rebuild":  func() (*http.Response, error) { return finn.RebuildWorkspace(ctx, "tide", nil) },
		"foresee":  func() (*http.Response, error) { return finn.ForeseeRebuild(ctx, "tide", nil) },
		"runs":     func() (*http.Response, error) { return finn.ListRuns(ctx, "tide") },
		"services": func() (*http.Response, error) { return finn.ListServices(ctx, "tide") },
		"helpers":  func() (*http.Response, error) { return finn.ListHelpers(ctx, "tide") },
		"move":     func() (*http.Response, error) { return finn.MoveWorkspace(ctx, "tide", client.MoveRequest{Site: "s"}) },
		"drift":    func() (*http.Response, error) { return finn.GetDrift(ctx, "tide") },
		"compare": func() (*http.Response, error) {
			return finn.CompareWorkspaces(ctx, "tide", &client.CompareWorkspacesParams{With: "tide"})
		},
	} {
		_, err := client.Answer[any](ask())
		assert.Equal(t, "no-workspace", fault.Code(err), "%s: %v", what, err)
	}
	mine, err := client.Answer[[]client.Workspace](finn.ListWorkspaces(ctx, nil))
	require.NoError(t, err)
	assert.Empty(t, mine)
	runs, err := client.Answer[[]client.Run](skipper.ListRuns(ctx, "tide"))
	require.NoError(t, err)
	_, err = client.Answer[client.Run](finn.GetRun(ctx, runs[0].Id))
	assert.Equal(t, "not-found", fault.Code(err))
	assert.Zero(t, h.site.Times("stop"))
	assert.Zero(t, h.site.Times("remove"))
}

// In the list the steps are those of runs that are under way or failed; one workspace has
// them all.
func TestTheListAndTheWhole(t *testing.T) {
	h := open(t, site.Facts{}, plain)
	skipper := h.person(t, "skipper")
	w := h.made(t, skipper, "tide")
	assert.Equal(t, client.RunStateFailed, w.Run.State)
	assert.Equal(t, "quay.test/base:12", *w.Image)
	assert.Equal(t, "Sailings", *w.Ports[0].Label)
	listed := func() client.Workspace {
		list, err := client.Answer[[]client.Workspace](skipper.ListWorkspaces(t.Context(), nil))
		require.NoError(t, err)
		require.Len(t, list, 1)
		return list[0]
	}
	assert.Equal(t, w, listed(), "of what failed the list has all")
	_, err := client.Answer[client.Workspace](skipper.StopWorkspace(t.Context(), "tide"))
	require.NoError(t, err)
	w = h.over(t, skipper, "tide")
	require.Equal(t, client.WorkspaceStateStopped, w.State)
	require.Len(t, w.Run.Steps, 1)
	l := listed()
	assert.Empty(t, l.Run.Steps)
	l.Run.Steps = w.Run.Steps
	assert.Equal(t, w, l)
}

func TestASiteTellsWhatItHasAndWhatIsShort(t *testing.T) {
	h := open(t, site.Facts{Engine: "an engine", System: "a system", Processors: 8, MemoryBytes: 32e9, DiskFreeBytes: 3 << 29, GPU: true}, plain)
	skipper := h.person(t, "skipper")
	var s client.Site
	require.Eventually(t, func() bool {
		list, err := client.Answer[[]client.Site](skipper.ListSites(t.Context()))
		require.NoError(t, err)
		s = list[0]
		return s.Ready
	}, 10*time.Second, 5*time.Millisecond)
	assert.Equal(t, 8, *s.Processors)
	assert.True(t, *s.Gpu)
	assert.Equal(t, "Only 1.5 GB of its disk are free: the next image may not fit. What can go: domicile tidy", *s.Warning)

	// It was given at the start: nobody removes it, and who is no administrator is told so first.
	keeper := h.account(t, "keeper", true)
	_, err := client.Answer[struct{}](keeper.RemoveSite(t.Context(), s.Name))
	assert.Equal(t, "site-in-use", fault.Code(err), "%v", err)
	_, err = client.Answer[struct{}](keeper.RemoveSite(t.Context(), "shoal"))
	assert.Equal(t, "no-site", fault.Code(err), "%v", err)
	_, err = client.Answer[struct{}](skipper.RemoveSite(t.Context(), s.Name))
	assert.Equal(t, "not-administrator", fault.Code(err), "%v", err)
}

// A plan shows what would be done and all that is refused, and makes nothing.
func TestAPlanMakesNothing(t *testing.T) {
	h := open(t, site.Facts{Processors: 2, MemoryBytes: 4 << 30}, `{"image": "quay.test/base:12", "privileged": true,
"hostRequirements": {"memory": "64gb"},
"mounts": ["source=/etc,target=/host,type=bind"]}`)
	skipper := h.person(t, "skipper")
	require.Eventually(t, func() bool { return h.site.Times("examine") > 0 && h.site.Times("list") > 0 }, 10*time.Second, 5*time.Millisecond)
	p, err := client.Answer[client.PlanAnswer](skipper.PlanSource(t.Context(), client.CheckRequest{Source: h.source}))
	require.NoError(t, err)
	require.NotNil(t, p.Refused)
	var said []string
	for _, r := range *p.Refused {
		said = append(said, r.Says)
		assert.NotEmpty(t, r.Remedy)
	}
	all := strings.Join(said, "\n")
	assert.Len(t, said, 3, all)
	for _, says := range []string{".devcontainer.json:1: it asks to be privileged", ":2: hostRequirements.memory asks for 64gb", ":3: it asks for the folder /etc of the host"} {
		assert.Contains(t, all, says)
	}
	assert.Zero(t, h.site.Times("volume"))
	assert.Zero(t, h.site.Times("image quay.test/base:12"))
}

// A request that cannot be carried out says why and what to do, and leaves nothing behind.
func TestRequestsThatCannotBeCarriedOut(t *testing.T) {
	h := open(t, site.Facts{}, plain)
	skipper := h.person(t, "skipper")
	text := func(s string) *string { return &s }
	for want, q := range map[string]client.ProvisionRequest{
		"bad-name":           {Source: h.source, Name: text("Not A Name")},
		"no-size":            {Source: h.source, Size: text("vast")},
		"bad-source":         {Source: "ftp://h/x"},
		"bad-ref":            {Source: "https://h/x", Ref: text("--upload-pack=x")},
		"folder-not-allowed": {Source: "/etc"},
	} {
		_, err := client.Answer[client.Workspace](skipper.Provision(t.Context(), q))
		if err == nil { // a folder is looked at when it is fetched
			w := h.over(t, skipper, "etc")
			assert.Contains(t, *w.Reason, "is not among those that may be used as sources", want)
			_, err = client.Answer[client.Workspace](skipper.RemoveWorkspace(t.Context(), "etc"))
			require.NoError(t, err)
			continue
		}
		assert.Equal(t, want, fault.Code(err), "%v", err)
		assert.NotEmpty(t, fault.Remedy(err), want)
	}
	require.Eventually(t, func() bool {
		list, err := client.Answer[[]client.Workspace](skipper.ListWorkspaces(t.Context(), nil))
		require.NoError(t, err)
		return len(list) == 0
	}, 10*time.Second, 5*time.Millisecond)
}
