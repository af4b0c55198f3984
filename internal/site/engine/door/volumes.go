package door

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/volume"
	"github.com/go-chi/chi/v5"
)

func (d *Door) volumes(w http.ResponseWriter, r *http.Request) {
	list, err := d.ownVolumes(r.Context())
	if err != nil {
		failed(w, err)
		return
	}
	for _, v := range list.Volumes {
		v.Name, v.Mountpoint = strings.TrimPrefix(v.Name, d.volume("")), ""
	}
	reply(w, http.StatusOK, list)
}

// ownVolumes lists the volumes that were made through this door.
func (d *Door) ownVolumes(ctx context.Context) (volume.ListResponse, error) {
	list, err := d.API.VolumeList(ctx, volume.ListOptions{Filters: d.mine(filters.NewArgs())})
	list.Volumes = slices.DeleteFunc(list.Volumes, func(v *volume.Volume) bool { return !d.isMine(v.Labels) })
	return list, err
}

func (d *Door) makeVolume(w http.ResponseWriter, r *http.Request) {
	var q volume.CreateOptions
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	if err == nil {
		err = strictly(body, &q)
	}
	if err != nil {
		answer(w, http.StatusForbidden, "The request cannot be judged: "+err.Error())
		return
	}
	if q.Driver != "" && q.Driver != "local" || len(q.DriverOpts) > 0 || q.ClusterVolumeSpec != nil || !volumeName.MatchString(q.Name) || q.Name == SourceVolume {
		answer(w, http.StatusForbidden, "A volume of a helper has a name of its own, and neither a driver nor options.")
		return
	}
	d.making.Lock()
	defer d.making.Unlock()
	there, err := d.ownVolumes(r.Context())
	if err != nil {
		failed(w, err)
		return
	}
	if len(there.Volumes) >= maxVolumes {
		answer(w, http.StatusForbidden, fmt.Sprintf("This workspace has %d volumes already, which is the most through this door: remove some first.", len(there.Volumes)))
		return
	}
	v, err := d.CreateVolume(r.Context(), volume.CreateOptions{Name: d.volume(q.Name), Labels: d.given()})
	d.showVolume(w, v, err, http.StatusCreated)
}

func (d *Door) inspectVolume(w http.ResponseWriter, r *http.Request) {
	name, ok := volumeParam(w, r)
	if !ok {
		return
	}
	v, err := d.API.VolumeInspect(r.Context(), d.volume(name))
	d.showVolume(w, v, err, http.StatusOK)
}

func (d *Door) showVolume(w http.ResponseWriter, v volume.Volume, err error, status int) {
	if err != nil {
		failed(w, err)
		return
	}
	v.Name, v.Mountpoint = strings.TrimPrefix(v.Name, d.volume("")), ""
	reply(w, status, v)
}

func (d *Door) removeVolume(w http.ResponseWriter, r *http.Request) {
	name, ok := volumeParam(w, r)
	if !ok {
		return
	}
	if err := d.API.VolumeRemove(r.Context(), d.volume(name), truth(r.URL.Query(), "force")); err != nil {
		failed(w, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// volumeParam is the volume's name of a route.
func volumeParam(w http.ResponseWriter, r *http.Request) (string, bool) {
	name := chi.URLParam(r, "name")
	if !volumeName.MatchString(name) {
		answer(w, http.StatusNotFound, "There is no such volume.")
		return "", false
	}
	return name, true
}
