package door

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/docker/docker/client"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fake is an engine that has one container of the workspace's, one of somebody else's, and
// notes what it is asked.
type fake struct {
	mu    sync.Mutex
	asked []string
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
	case path == "images/open/json":
		reply(w, http.StatusOK, map[string]any{"Id": "i1", "Config": map[string]any{}})
	case path == "images/hidden/json":
		reply(w, http.StatusOK, map[string]any{"Id": "i2", "Config": map[string]any{"Labels": map[string]string{"secret": "yes"}}})
	case path == "containers/json" || path == "images/json":
		reply(w, http.StatusOK, []any{})
	case strings.HasSuffix(path, "/json"):
		answer(w, http.StatusNotFound, "no such thing")
	case r.Method == http.MethodPost && path == "containers/create":
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
	d := &Door{API: api, Labels: map[string]string{"domicile.workspace": "w1"}, Workspace: "w1", Prefix: "mine-d-", Source: "mine",
		Network: func(context.Context) (string, error) { return "net", nil }, Hidden: func(labels map[string]string) bool { return labels["secret"] != "" }}
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
		"GET /plugins", "GET /secrets", "POST /auth", "GET /distribution/x/json", "GET /v1.23/containers/json", "POST /v1.12/containers/c1/start", "GET //info", "GET /containers/..%2fother/json", "POST /containers/c1%2f..%2fother/stop", "POST /images/create?fromSrc=http://h/x", "POST /images/create?fromImage=a&fromSrc=b"} {
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
		"POST /exec/e2/start", "GET /exec/e2/json", "GET /images/hidden/json", "POST /containers/none/kill"} {
		method, path, _ := strings.Cut(line, " ")
		status, _ := ask(h, method, path, "{}")
		assert.Equal(t, http.StatusNotFound, status, line)
	}
	for _, line := range f.asked {
		assert.Contains(t, line, "/json", "the engine was asked only what a thing is")
	}
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
	status, said = ask(h, http.MethodPost, "/containers/create", `{"Image": "hidden"}`)
	assert.Equal(t, http.StatusNotFound, status, said)
	status, said = ask(h, http.MethodPost, "/containers/cache/exec", `{"Cmd": ["id"], "Privileged": true}`)
	assert.Equal(t, http.StatusForbidden, status, said)
	assert.NotContains(t, f.asked, "POST /containers/c1/exec")
}
