// Package door is the narrow way from a workspace to the engine that holds it: an HTTP
// handler that speaks a safe part of the Engine API. Whoever reaches an engine owns its
// host, so a workspace never gets the engine's own socket. Through the door it sees and
// makes only helpers of its own, which can have nothing of the host; everything else is
// answered 403 with a sentence.
//
// Every route is matched whole, every name has a grammar and an owner, a query says only
// what its route knows, and what comes back tells nothing of the host.
package door

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	cerrdefs "github.com/containerd/errdefs"
	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/network"
	"github.com/docker/docker/api/types/storage"
	"github.com/docker/docker/api/types/volume"
	"github.com/docker/docker/client"
	"github.com/go-chi/chi/v5"

	"domicile/internal/fault"
	"domicile/internal/judge"
)

// Label marks what came through the door, with the workspace's id.
const Label = "domicile.door"

// Door says whose door it is.
type Door struct {
	API *client.Client
	// Labels tell of everything that is the workspace's that it is. Given are all labels that
	// what is made gets, those that an image must not set among them.
	Labels, Given map[string]string
	// Workspace is its id, Prefix begins the names of all it makes.
	Workspace, Prefix string
	// Source is the volume with its source, and the name of its own container.
	Source string
	// Network makes the network of the workspace and its helpers, and gives its name.
	Network func(ctx context.Context) (string, error)
	// MayAsk judges the host of a registry before the engine is told to pull from it; nil:
	// every host may be asked.
	MayAsk func(ctx context.Context, host string) error
	// Fetch brings an image that was judged; nil: the engine pulls it.
	Fetch func(ctx context.Context, image judge.Image, progress func(line string)) error
	// Create and CreateVolume make what was judged, within the bounds that the site has.
	Create       func(ctx context.Context, config *container.Config, host *container.HostConfig, networks *network.NetworkingConfig, name string) (container.CreateResponse, error)
	CreateVolume func(ctx context.Context, o volume.CreateOptions) (volume.Volume, error)

	making  sync.Mutex // held while it is counted and made, so that many at once are counted too
	once    sync.Once
	engine  *http.Transport
	forward *httputil.ReverseProxy
}

// Close ends the connections to the engine that wait for more.
func (d *Door) Close() {
	if d.engine != nil {
		d.engine.CloseIdleConnections()
	}
}

const (
	maxBody = 1 << 20
	// maxHelpers bounds how many containers a workspace may have through its door.
	maxHelpers = 20
	// maxVolumes bounds how many volumes it may have through it.
	maxVolumes = 100
	// oldest is the first version of the API in which a start takes no settings.
	oldest = 24
)

var versioned = regexp.MustCompile(`^/v1\.(\d{1,3})(/.*)$`)

// Handler serves the door.
func (d *Door) Handler() http.Handler {
	r := chi.NewRouter()
	pass := d.proxy()
	r.Get("/_ping", pass.ServeHTTP)
	r.Head("/_ping", pass.ServeHTTP)
	r.Get("/version", pass.ServeHTTP)
	r.Get("/containers/json", d.list)
	r.Post("/containers/create", d.create)
	r.Get("/containers/{id}/json", d.inspect)
	for _, what := range []string{"logs", "stats", "top", "changes", "archive"} {
		r.Get("/containers/{id}/"+what, d.own(pass))
	}
	r.Head("/containers/{id}/archive", d.own(pass))
	r.Put("/containers/{id}/archive", d.own(pass))
	r.Post("/containers/{id}/start", d.own(bare(pass)))
	for _, what := range []string{"stop", "kill", "restart", "pause", "unpause", "wait", "attach", "resize"} {
		r.Post("/containers/{id}/"+what, d.own(pass))
	}
	r.Post("/containers/{id}/exec", d.own(http.HandlerFunc(d.exec)))
	r.Delete("/containers/{id}", d.own(pass))
	r.Get("/exec/{id}/json", d.ownExec(pass))
	r.Post("/exec/{id}/start", d.ownExec(pass))
	r.Post("/exec/{id}/resize", d.ownExec(pass))
	r.Get("/images/*", d.image)
	r.Post("/images/create", d.pull(pass))
	r.Get("/volumes", d.volumes)
	r.Post("/volumes/create", d.makeVolume)
	r.Get("/volumes/{name}", d.inspectVolume)
	r.Delete("/volumes/{name}", d.removeVolume)
	closed := func(w http.ResponseWriter, r *http.Request) {
		answer(w, http.StatusForbidden, fmt.Sprintf("%s %s is not given through this door. A workspace can make and use containers, volumes and images for helpers of its own; for more, ask for a helper: domicile helper.", r.Method, r.URL.Path))
	}
	r.NotFound(closed)
	r.MethodNotAllowed(closed)
	return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if m := versioned.FindStringSubmatch(q.URL.Path); m != nil {
			if n, _ := strconv.Atoi(m[1]); n < oldest {
				answer(w, http.StatusForbidden, fmt.Sprintf("This door does not speak version 1.%d of the API: use 1.%d or newer.", n, oldest))
				return
			}
			q.URL.Path = m[2]
		}
		if why := odd(q); why != "" {
			answer(w, http.StatusForbidden, why)
			return
		}
		q.URL.RawPath = "" // an encoded slash must not mean one thing here and another behind
		r.ServeHTTP(w, q)
	})
}

// proxy passes a request on to the engine as it is, streams too.
func (d *Door) proxy() *httputil.ReverseProxy {
	d.once.Do(d.open)
	return d.forward
}

// open makes the one way to the engine that all requests share.
func (d *Door) open() {
	d.engine = &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return d.API.Dialer()(ctx) }, DisableCompression: true, MaxIdleConns: 8, IdleConnTimeout: time.Minute}
	d.forward = &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.Out.URL.Scheme, r.Out.URL.Host = "http", "engine"
			r.Out.URL.Path = "/v" + d.API.ClientVersion() + r.In.URL.Path
			r.Out.Host = "engine"
		},
		Transport:     d.engine,
		FlushInterval: -1,
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
			answer(w, http.StatusBadGateway, "The engine does not answer: "+err.Error())
		},
	}
}

// bare drops a request's body: an old engine would take settings from it.
func bare(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Body, r.ContentLength = http.NoBody, 0
		next.ServeHTTP(w, r)
	})
}

func answer(w http.ResponseWriter, status int, text string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]string{"message": text})
}

func reply(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

// failed answers what the engine said, or a refusal.
func failed(w http.ResponseWriter, err error) {
	var no refusal
	var known *fault.Fault
	switch {
	case errors.As(err, &known):
		answer(w, http.StatusForbidden, known.Error()+". "+known.Remedy)
	case errors.As(err, &no):
		answer(w, http.StatusForbidden, no.Error())
	case cerrdefs.IsNotFound(err):
		answer(w, http.StatusNotFound, err.Error())
	case cerrdefs.IsConflict(err):
		answer(w, http.StatusConflict, err.Error())
	case cerrdefs.IsInvalidArgument(err):
		answer(w, http.StatusBadRequest, err.Error())
	default:
		answer(w, http.StatusBadGateway, err.Error())
	}
}

// labels are those by which what came through this door is known.
func (d *Door) labels() map[string]string {
	all := map[string]string{}
	maps.Copy(all, d.Labels)
	all[Label] = d.Workspace
	return all
}

// given are the labels of what is made: all of Domicile's own, so that an image cannot set
// any of them.
func (d *Door) given() map[string]string {
	all := map[string]string{}
	maps.Copy(all, d.Given)
	maps.Copy(all, d.labels())
	return all
}

// mine filters what came through this door. An engine's filter only shortens a list: whose
// each is, isMine says.
func (d *Door) mine(f filters.Args) filters.Args {
	for k, v := range d.labels() {
		f.Add("label", k+"="+v)
	}
	return f
}

func (d *Door) list(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	f, err := filters.FromJSON(q.Get("filters"))
	if err != nil {
		answer(w, http.StatusBadRequest, err.Error())
		return
	}
	limit, _ := strconv.Atoi(q.Get("limit"))
	list, err := d.API.ContainerList(r.Context(), container.ListOptions{All: truth(q, "all"), Size: truth(q, "size"), Limit: limit, Filters: d.mine(f)})
	if err != nil {
		failed(w, err)
		return
	}
	list = slices.DeleteFunc(list, func(c container.Summary) bool { return !d.isMine(c.Labels) })
	for i := range list {
		for j, name := range list[i].Names {
			list[i].Names[j] = "/" + strings.TrimPrefix(name, "/"+d.Prefix)
		}
		for j := range list[i].Mounts {
			list[i].Mounts[j].Source, list[i].Mounts[j].Name = "", strings.TrimPrefix(list[i].Mounts[j].Name, d.volume(""))
		}
	}
	reply(w, http.StatusOK, list)
}

func truth(q url.Values, name string) bool {
	b, _ := strconv.ParseBool(q.Get(name))
	return b
}

// find finds a container that came through this door, by name or id.
func (d *Door) find(ctx context.Context, id string) (container.InspectResponse, error) {
	if !objectName.MatchString(id) {
		return container.InspectResponse{}, fmt.Errorf("no such container: %w", cerrdefs.ErrNotFound)
	}
	there, err := d.API.ContainerInspect(ctx, d.Prefix+id)
	if cerrdefs.IsNotFound(err) {
		there, err = d.API.ContainerInspect(ctx, id)
	}
	if err == nil && !d.isMine(there.Config.Labels) || cerrdefs.IsNotFound(err) {
		// The same words for what is not there and what is somebody else's.
		return there, fmt.Errorf("no such container: %s: %w", id, cerrdefs.ErrNotFound)
	}
	return there, err
}

func (d *Door) isMine(labels map[string]string) bool {
	for k, v := range d.labels() {
		if labels[k] != v {
			return false
		}
	}
	return true
}

func (d *Door) inspect(w http.ResponseWriter, r *http.Request) {
	there, err := d.find(r.Context(), chi.URLParam(r, "id"))
	if err != nil {
		failed(w, err)
		return
	}
	there.Name = "/" + strings.TrimPrefix(there.Name, "/"+d.Prefix)
	there.HostnamePath, there.HostsPath, there.LogPath, there.ResolvConfPath, there.GraphDriver = "", "", "", "", storage.DriverData{}
	for i := range there.Mounts {
		there.Mounts[i].Source, there.Mounts[i].Name = "", strings.TrimPrefix(there.Mounts[i].Name, d.volume(""))
	}
	reply(w, http.StatusOK, there)
}

// own passes on what is asked of a container of this door, by its id.
func (d *Door) own(next http.Handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		id := chi.URLParam(r, "id")
		there, err := d.find(r.Context(), id)
		if err != nil {
			failed(w, err)
			return
		}
		r.URL.Path = "/containers/" + there.ID + strings.TrimPrefix(r.URL.Path, "/containers/"+id)
		next.ServeHTTP(w, r)
	}
}

func (d *Door) ownExec(next http.Handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		id := chi.URLParam(r, "id")
		if !objectName.MatchString(id) {
			answer(w, http.StatusNotFound, "There is no such command.")
			return
		}
		e, err := d.API.ContainerExecInspect(r.Context(), id)
		if err == nil {
			_, err = d.find(r.Context(), e.ContainerID)
		}
		if err != nil {
			failed(w, err)
			return
		}
		next.ServeHTTP(w, r)
	}
}

// exec makes a command in a container, never a privileged one.
func (d *Door) exec(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	if err != nil {
		answer(w, http.StatusBadRequest, err.Error())
		return
	}
	var q container.ExecOptions
	if err := strictly(body, &q); err != nil {
		answer(w, http.StatusForbidden, "The request cannot be judged: "+err.Error())
		return
	}
	if q.Privileged {
		answer(w, http.StatusForbidden, "A command in a helper cannot be privileged: it would own the host.")
		return
	}
	if body, err = json.Marshal(q); err != nil {
		answer(w, http.StatusBadRequest, err.Error())
		return
	}
	r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	r.Header.Set("Content-Length", strconv.Itoa(len(body)))
	d.proxy().ServeHTTP(w, r)
}
