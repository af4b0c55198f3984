package door

import (
	"context"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/network"
	"github.com/docker/docker/api/types/registry"
	"github.com/docker/docker/api/types/storage"
	"github.com/docker/docker/pkg/jsonmessage"
	"github.com/go-chi/chi/v5"

	"domicile/internal/fault"
	"domicile/internal/judge"
)

// create makes a container that has nothing of the host.
func (d *Door) create(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	if err != nil {
		answer(w, http.StatusBadRequest, err.Error())
		return
	}
	made, err := d.make(r.Context(), r.URL.Query().Get("name"), body)
	if err != nil {
		failed(w, err)
		return
	}
	reply(w, http.StatusCreated, made)
}

func (d *Door) make(ctx context.Context, name string, body []byte) (made container.CreateResponse, err error) {
	q, err := d.judge(body)
	if err != nil {
		return made, err
	}
	most, err := d.limits(ctx)
	if err == nil {
		err = limit(q.HostConfig, most)
	}
	if err != nil {
		return made, err
	}
	if name != "" && !volumeName.MatchString(name) {
		return made, refuse("%q is no name for a container: use letters, digits, and _ . - behind the first.", name)
	}
	image, err := d.usable(ctx, q.Image)
	if err != nil {
		return made, err
	}
	q.Config.Image = image.Name()
	d.making.Lock()
	defer d.making.Unlock()
	there, err := d.API.ContainerList(ctx, container.ListOptions{All: true, Filters: d.mine(filters.NewArgs())})
	if err != nil {
		return made, err
	}
	there = slices.DeleteFunc(there, func(c container.Summary) bool { return !d.isMine(c.Labels) })
	if len(there) >= maxHelpers {
		return made, refuse("This workspace has %d containers already, which is the most through this door: remove some first.", len(there))
	}
	labels := map[string]string{}
	maps.Copy(labels, q.Labels)
	maps.Copy(labels, d.given())
	q.Config.Labels = labels
	networks := &network.NetworkingConfig{}
	switch {
	case q.joins != "":
		other, err := d.find(ctx, q.joins)
		if err != nil {
			return made, err
		}
		q.HostConfig.NetworkMode = container.NetworkMode("container:" + other.ID)
	case q.HostConfig.NetworkMode == "":
		on, err := d.Network(ctx)
		if err != nil {
			return made, err
		}
		q.HostConfig.NetworkMode = container.NetworkMode(on)
		if name != "" {
			q.aliases = append(q.aliases, name)
		}
		networks.EndpointsConfig = map[string]*network.EndpointSettings{on: {Aliases: q.aliases}}
	}
	if name != "" {
		name = d.Prefix + name
	}
	return d.Create(ctx, q.Config, q.HostConfig, networks, name)
}

// usable judges an image that is to be there already, and gives its whole name.
func (d *Door) usable(ctx context.Context, name string) (judge.Image, error) {
	image, err := foreign(name)
	if err != nil {
		return image, err
	}
	if _, err := d.API.ImageInspect(ctx, image.Name()); err != nil {
		return image, err
	}
	return image, nil
}

// foreign judges an image by its name: those that Domicile made for somebody have files of
// repositories and people in them, and an image's id could be that of any of them.
func foreign(name string) (judge.Image, error) {
	j := judge.New(judge.Subject{})
	image := j.Pulled("", name)
	if err := j.Err(); err != nil {
		return image, refuse("%s: %s.", err, fault.Remedy(err))
	}
	return image, nil
}

func (d *Door) image(w http.ResponseWriter, r *http.Request) {
	name, found := strings.CutSuffix(chi.URLParam(r, "*"), "/json")
	if !found || name == "" {
		answer(w, http.StatusForbidden, "The engine's images are not listed through this door: ask for one by its name.")
		return
	}
	image, err := d.usable(r.Context(), name)
	if err != nil {
		failed(w, err)
		return
	}
	i, err := d.API.ImageInspect(r.Context(), image.Name())
	if err != nil {
		failed(w, err)
		return
	}
	i.RepoTags, i.RepoDigests, i.GraphDriver = []string{name}, nil, storage.DriverData{}
	reply(w, http.StatusOK, i)
}

// pull lets an image be pulled, as anybody may: what somebody's own credentials give would
// be there for everybody on the engine.
func (d *Door) pull(next http.Handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		name := q.Get("fromImage")
		if tag := q.Get("tag"); strings.HasPrefix(tag, "sha256:") {
			name += "@" + tag
		} else if tag != "" {
			name += ":" + tag
		}
		if name == "" {
			answer(w, http.StatusForbidden, "Images are only pulled through this door, not imported: name one with fromImage.")
			return
		}
		if brings(r.Header.Get("X-Registry-Auth")) {
			answer(w, http.StatusForbidden, "Credentials are not taken through this door: an administrator gives the service those of a registry (domicile registries set).")
			return
		}
		image, err := foreign(name)
		if err == nil && d.MayAsk != nil {
			err = d.MayAsk(r.Context(), image.Registry())
		}
		if err != nil {
			failed(w, err)
			return
		}
		if d.Fetch != nil {
			d.fetch(w, r, image)
			return
		}
		r.Header.Del("X-Registry-Auth")
		r.URL.RawQuery = url.Values{"fromImage": {image.Name()}}.Encode()
		r.Body, r.ContentLength = http.NoBody, 0
		next.ServeHTTP(w, r)
	}
}

// fetch brings an image from elsewhere, and tells how it goes as an engine that pulls does.
func (d *Door) fetch(w http.ResponseWriter, r *http.Request, image judge.Image) {
	w.Header().Set("Content-Type", "application/json")
	say := json.NewEncoder(w)
	flush := http.NewResponseController(w)
	err := d.Fetch(r.Context(), image, func(line string) {
		_ = say.Encode(jsonmessage.JSONMessage{Status: line})
		_ = flush.Flush()
	})
	if err != nil {
		_ = say.Encode(jsonmessage.JSONMessage{Error: &jsonmessage.JSONError{Message: err.Error()}})
		return
	}
	_ = say.Encode(jsonmessage.JSONMessage{Status: image.Name() + " is here"})
}

// brings tells of a header whether it has credentials: clients send an empty one too.
func brings(header string) bool {
	if header == "" {
		return false
	}
	config, err := registry.DecodeAuthConfig(header)
	return err != nil || config.Username != "" || config.Password != "" || config.Auth != "" || config.IdentityToken != "" || config.RegistryToken != ""
}
