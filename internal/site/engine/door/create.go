package door

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"

	cerrdefs "github.com/containerd/errdefs"
	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/network"
	"github.com/go-chi/chi/v5"
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
	if err := d.usable(ctx, q.Image); err != nil {
		return made, err
	}
	there, err := d.API.ContainerList(ctx, container.ListOptions{All: true, Filters: d.mine(filters.NewArgs())})
	if err != nil {
		return made, err
	}
	if len(there) >= maxHelpers {
		return made, refuse("This workspace has %d containers already, which is the most through this door: remove some first.", len(there))
	}
	labels := d.labels()
	for k, v := range q.Labels {
		labels[k] = v
	}
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
	return d.API.ContainerCreate(ctx, q.Config, q.HostConfig, networks, nil, name)
}

// usable refuses images that Domicile made for somebody: they have files of repositories
// and people in them.
func (d *Door) usable(ctx context.Context, image string) error {
	i, err := d.API.ImageInspect(ctx, image)
	if err != nil {
		return err
	}
	if i.Config != nil && d.Hidden(i.Config.Labels) {
		return fmt.Errorf("no such image: %s: %w", image, cerrdefs.ErrNotFound)
	}
	return nil
}

func (d *Door) image(w http.ResponseWriter, r *http.Request) {
	name, found := strings.CutSuffix(chi.URLParam(r, "*"), "/json")
	if !found || name == "" {
		answer(w, http.StatusForbidden, "The engine's images are not listed through this door: ask for one by its name.")
		return
	}
	if err := d.usable(r.Context(), name); err != nil {
		failed(w, err)
		return
	}
	i, err := d.API.ImageInspect(r.Context(), name)
	if err != nil {
		failed(w, err)
		return
	}
	reply(w, http.StatusOK, i)
}

// pull lets an image be pulled, by whatever credentials the request itself brings.
func (d *Door) pull(next http.Handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		if q.Get("fromImage") == "" || q.Get("fromSrc") != "" {
			answer(w, http.StatusForbidden, "Images are only pulled through this door, not imported: name one with fromImage.")
			return
		}
		next.ServeHTTP(w, r)
	}
}
