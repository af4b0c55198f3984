package door

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/network"
	"github.com/docker/docker/client"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

// fake is an engine that has one container of the workspace's, one of somebody else's, and
// notes what it is asked.
type fake struct {
	mu            sync.Mutex
	asked         []string
	made, volumes []any
}

func (f *fake) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	_, path, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/v"), "/")
	f.mu.Lock()
	f.asked = append(f.asked, r.Method+" /"+path)
	f.mu.Unlock()
	mine := map[string]string{"domicile.workspace": "w1", Label: "w1"}
	switch {
	case path == "containers/mine/json":
		reply(w, http.StatusOK, map[string]any{"Id": "own", "Name": "/mine", "Config": map[string]any{}, "HostConfig": map[string]any{"Memory": 512 << 20}})
	case path == "containers/mine-d-cache/json" || path == "containers/c1/json":
		reply(w, http.StatusOK, map[string]any{"Id": "c1", "Name": "/mine-d-cache", "Config": map[string]any{"Labels": mine}})
	case path == "containers/other/json":
		reply(w, http.StatusOK, map[string]any{"Id": "c2", "Name": "/other", "Config": map[string]any{"Labels": map[string]string{"domicile.workspace": "w2"}}})
	case path == "exec/e1/json":
		reply(w, http.StatusOK, map[string]any{"ID": "e1", "ContainerID": "c1"})
	case path == "exec/e2/json":
		reply(w, http.StatusOK, map[string]any{"ID": "e2", "ContainerID": "other"})
	case path == "images/docker.io/library/open:latest/json":
		reply(w, http.StatusOK, map[string]any{"Id": "i1", "Config": map[string]any{}, "RepoTags": []string{"open:latest", "domicile-state:x"}, "GraphDriver": map[string]any{"Name": "overlay2", "Data": map[string]string{"UpperDir": "/host/path"}}})
	case path == "containers/json":
		f.mu.Lock()
		defer f.mu.Unlock()
		reply(w, http.StatusOK, append([]any{}, f.made...))
	case path == "images/json":
		reply(w, http.StatusOK, []any{})
	case r.Method == http.MethodGet && path == "volumes":
		f.mu.Lock()
		defer f.mu.Unlock()
		reply(w, http.StatusOK, map[string]any{"Volumes": f.volumes})
	case path == "volumes/create":
		f.mu.Lock()
		defer f.mu.Unlock()
		f.volumes = append(f.volumes, map[string]any{"Name": "v", "Labels": mine})
		reply(w, http.StatusCreated, map[string]any{"Name": "v"})
	case strings.HasSuffix(path, "/json"):
		answer(w, http.StatusNotFound, "no such thing")
	case r.Method == http.MethodPost && path == "containers/create":
		f.mu.Lock()
		defer f.mu.Unlock()
		f.made = append(f.made, map[string]any{"Id": "new", "Labels": mine})
		reply(w, http.StatusCreated, map[string]string{"Id": "new"})
	default:
		w.WriteHeader(http.StatusNoContent)
	}
}

func opened(t *testing.T) (*fake, http.Handler) {
	t.Helper()
	f := &fake{}
	server := httptest.NewServer(f)
	t.Cleanup(server.Close)
	api, err := client.NewClientWithOpts(client.WithHost("tcp://"+server.Listener.Addr().String()), client.WithVersion("1.41"))
	require.NoError(t, err)
	d := &Door{API: api, Create: func(ctx context.Context, config *container.Config, host *container.HostConfig, networks *network.NetworkingConfig, name string) (container.CreateResponse, error) {
		return api.ContainerCreate(ctx, config, host, networks, nil, name)
	}, CreateVolume: api.VolumeCreate, Labels: map[string]string{"domicile.workspace": "w1"}, Workspace: "w1", Prefix: "mine-d-", Source: "mine",
		Network: func(context.Context) (string, error) { return "net", nil },
		Given:   map[string]string{"domicile.workspace": "w1", "domicile.service": ""}, MayAsk: func(_ context.Context, host string) error {
			if host == "127.0.0.1:9" {
				return fault.New("address-refused", "ask an administrator", "the host 127.0.0.1:9 is not asked")
			}
			return nil
		}}
	return f, d.Handler()
}

func ask(h http.Handler, method, path, body string) (int, string) {
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest(method, path, strings.NewReader(body)))
	var said struct{ Message string }
	_ = json.Unmarshal(w.Body.Bytes(), &said)
	return w.Code, said.Message
}

// What is not given is answered with a sentence, and never reaches the engine.
func TestWhatIsNotGiven(t *testing.T) {
	f, h := opened(t)
	for _, line := range []string{"GET /info", "GET /events", "GET /networks", "POST /networks/create", "POST /build", "POST /session", "POST /grpc", "GET /images/json", "GET /v1.41/images/json", "POST /images/load", "GET /images/get",
		"DELETE /images/open", "POST /images/open/push", "POST /images/open/tag", "POST /commit", "POST /containers/c1/rename", "POST /containers/c1/update", "POST /containers/prune", "GET /containers/c1/export", "POST /volumes/prune", "GET /system/df", "POST /swarm/init",
		"GET /plugins", "GET /secrets", "POST /auth", "GET /distribution/x/json", "GET /v1.23/containers/json", "POST /v1.12/containers/c1/start", "GET //info", "GET /containers/..%2fother/json", "POST /containers/c1%2f..%2fother/stop", "POST /images/create?fromSrc=http://h/x", "POST /images/create?fromImage=a&fromSrc=b",
		"POST /images/create?fromImage=127.0.0.1:9/x", "POST /images/create?fromImage=domicile-state&tag=x", "POST /images/create?fromImage=library/domicile-image", "POST /images/create?fromImage=docker.io/domicile-image:x", "POST /images/create?fromImage=index.docker.io/library/domicile-image",
		"GET /images/domicile-image:x/json", "GET /images/sha256:" + strings.Repeat("a", 64) + "/json", "GET /images/" + strings.Repeat("a", 64) + "/json", "GET /images/x/../../containers/other/json", "GET /images/../containers/other/json", "GET /images/a/..%2f..%2fcontainers/other/json",
		"GET /containers/../json", "GET /containers/./json", "GET /images//json", "GET /images/x%00/json", "GET /containers/c1/top?ps_args=e", "POST /containers/c1/start?checkpoint=a&checkpoint-dir=/etc", "GET /containers/c1/logs?verbose=1", "DELETE /containers/c1?link=1", "GET /volumes/../containers/other/json", "GET /info/../_ping",
		"POST /_ping", "GET /version/../info", "GET /v1.41//info", "GET /v1.41/v1.41/info", "GET /images/a?size=1&x=2"} {
		method, path, _ := strings.Cut(line, " ")
		status, said := ask(h, method, path, "{}")
		assert.Equal(t, http.StatusForbidden, status, line)
		assert.NotEmpty(t, said, line)
	}
	assert.Empty(t, f.asked)
}

// Others' containers look as if they were not there, whatever is asked of them.
func TestOthersAreNotThere(t *testing.T) {
	f, h := opened(t)
	for _, line := range []string{"GET /containers/other/json", "POST /containers/other/stop", "POST /containers/other/exec", "DELETE /containers/other", "GET /containers/other/logs", "PUT /containers/other/archive?path=/", "POST /containers/other/attach",
		"POST /exec/e2/start", "GET /exec/e2/json", "POST /containers/none/kill"} {
		method, path, _ := strings.Cut(line, " ")
		status, _ := ask(h, method, path, "{}")
		assert.Equal(t, http.StatusNotFound, status, line)
	}
	for _, line := range f.asked {
		assert.Contains(t, line, "/json", "the engine was asked only what a thing is")
	}
}

// An engine that takes a filter for less than it says gives others' things too: they are not
// shown, and do not count.
func TestAnEngineThatListsTooMuch(t *testing.T) {
	f, h := opened(t)
	others := map[string]string{"domicile.workspace": "w2", Label: "w2"}
	for i := range maxHelpers + 1 {
		f.made = append(f.made, map[string]any{"Id": fmt.Sprint("other", i), "Names": []string{"/other"}, "Labels": others})
	}
	f.made = append(f.made, map[string]any{"Id": "own", "Names": []string{"/mine-d-cache"}, "Labels": map[string]string{"domicile.workspace": "w1", Label: "w1"}})
	f.volumes = []any{map[string]any{"Name": "others", "Labels": others}}
	for _, path := range []string{"/containers/json?all=1", "/volumes"} {
		w := httptest.NewRecorder()
		h.ServeHTTP(w, httptest.NewRequest(http.MethodGet, path, nil))
		assert.Equal(t, http.StatusOK, w.Code)
		assert.NotContains(t, w.Body.String(), "other", path)
		assert.Equal(t, path == "/containers/json?all=1", strings.Contains(w.Body.String(), "/cache"))
	}
	status, said := ask(h, http.MethodPost, "/containers/create", `{"Image": "open"}`)
	assert.Equal(t, http.StatusCreated, status, said)
}

func TestItsOwnIsPassedOn(t *testing.T) {
	f, h := opened(t)
	for line, reaches := range map[string]string{"POST /v1.41/containers/cache/stop?t=1": "POST /containers/c1/stop", "DELETE /containers/cache": "DELETE /containers/c1", "POST /exec/e1/start": "POST /exec/e1/start", "GET /containers/cache/archive": "GET /containers/c1/archive"} {
		method, path, _ := strings.Cut(line, " ")
		status, said := ask(h, method, path, "")
		assert.Equal(t, http.StatusNoContent, status, "%s: %s", line, said)
		assert.Contains(t, f.asked, reaches)
	}
	status, said := ask(h, http.MethodPost, "/containers/create?name=mate", `{"Image": "open"}`)
	assert.Equal(t, http.StatusCreated, status, said)
	status, said = ask(h, http.MethodPost, "/containers/create", `{"Image": "open", "HostConfig": {"Memory": 1073741824}}`)
	assert.Equal(t, http.StatusForbidden, status)
	assert.Contains(t, said, "at most the memory of its workspace, 512 MB")
	for _, image := range []string{"domicile-state:x", "library/domicile-image:y", strings.Repeat("a", 64), "sha256:" + strings.Repeat("b", 64), "../x", "a/../b"} {
		status, said = ask(h, http.MethodPost, "/containers/create", `{"Image": "`+image+`"}`)
		assert.Equal(t, http.StatusForbidden, status, "%s: %s", image, said)
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest(http.MethodGet, "/images/open/json", nil))
	assert.NotContains(t, w.Body.String(), "domicile-state", "other names of the image")
	assert.NotContains(t, w.Body.String(), "/host/path")
	status, said = ask(h, http.MethodPost, "/images/create?fromImage=quay.test/x&tag=1", "")
	assert.Equal(t, http.StatusNoContent, status, said)
	q := httptest.NewRequest(http.MethodPost, "/images/create?fromImage=quay.test/x&tag=1", nil)
	q.Header.Set("X-Registry-Auth", "eyJ1c2VybmFtZSI6ImFkYSIsInBhc3N3b3JkIjoicHcifQ==")
	w = httptest.NewRecorder()
	h.ServeHTTP(w, q)
	assert.Equal(t, http.StatusForbidden, w.Code, "whose image it is would be everybody's on the engine")
	status, said = ask(h, http.MethodPost, "/containers/cache/exec", `{"Cmd": ["id"], "Privileged": true}`)
	assert.Equal(t, http.StatusForbidden, status, said)
	assert.NotContains(t, f.asked, "POST /containers/c1/exec")
}

// Asking for many at once does not give more than asking for one after the other.
func TestHowManyItMayHave(t *testing.T) {
	f, h := opened(t)
	var all sync.WaitGroup
	said := make(chan string, 3*maxVolumes)
	for range cap(said) / 2 {
		all.Go(func() {
			_, words := ask(h, "POST", "/containers/create", `{"Image": "open"}`)
			said <- words
		})
		all.Go(func() {
			_, words := ask(h, "POST", "/volumes/create", `{"Name": "more"}`)
			said <- words
		})
	}
	all.Wait()
	close(said)
	refused := 0
	for words := range said {
		if strings.Contains(words, "remove some first") {
			refused++
		}
	}
	assert.Len(t, f.made, maxHelpers)
	assert.Len(t, f.volumes, maxVolumes)
	assert.Equal(t, cap(said)-maxHelpers-maxVolumes, refused)
}

// Whatever is asked: the engine is asked only for the workspace's own containers and
// commands, by their ids, and for images by whole names.
func FuzzRoutes(f *testing.F) {
	for _, line := range []string{"GET /containers/other/json", "GET /images/x/../../containers/other/json", "POST /containers/cache/start?checkpoint=1", "GET /images/open/json", "DELETE /volumes/..", "POST /v1.41/images/create?fromImage=a&tag=b", "GET /v1.41/exec/e2/json"} {
		f.Add(line, `{"Image": "open"}`)
	}
	known := regexp.MustCompile(`^[A-Z]+ /(v1[.0-9]+/)?(_ping|version|containers/json|containers/create|containers/(mine|c1|(mine-d-)?[a-zA-Z0-9][a-zA-Z0-9_.-]*)/json|containers/c1(/[a-z]+)?|exec/[a-zA-Z0-9][a-zA-Z0-9_.-]*/json|exec/e1/(start|resize)|images/create|images/[a-z0-9.:-]+/[a-zA-Z0-9_.:@/-]+/json|volumes|volumes/create|volumes/mine-d-v-[a-zA-Z0-9_.-]+)$`)
	f.Fuzz(func(t *testing.T, line, body string) {
		method, path, _ := strings.Cut(line, " ")
		target, err := url.ParseRequestURI(path)
		if err != nil || method == "" || strings.Trim(method, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") != "" {
			return
		}
		engine, h := opened(t)
		h.ServeHTTP(httptest.NewRecorder(), &http.Request{Method: method, URL: target, Header: http.Header{}, Body: io.NopCloser(strings.NewReader(body)), ContentLength: int64(len(body)), Host: "engine"})
		for _, asked := range engine.asked {
			if !known.MatchString(asked) || strings.Contains(asked, "..") {
				t.Fatalf("%q asks the engine %q", line, asked)
			}
		}
	})
}
