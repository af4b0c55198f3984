package plan

import (
	"slices"
	"strings"

	"domicile/internal/definition"
	"domicile/internal/recipe"
)

// imageOf is the image to pull where nothing is built, as it is written.
func imageOf(r *definition.Report) string {
	name := r.Effective.Image
	for _, s := range r.Services {
		if r.Kind == definition.KindCompose && s.Name == r.Effective.Service {
			name = s.Image
		}
	}
	return name
}

// pinnedImage is an image by digest, as a lock file or the registry says: a tag that was
// moved means another image, and so another container.
func pinnedImage(r *definition.Report, name string) string {
	for _, i := range r.Images {
		if i.Reference == name && i.Resolved != "" {
			return i.Resolved
		}
	}
	return name
}

// ownEnv is containerEnv without what the image has from its features already. A feature's
// variable may be made of others of the image; in a definition such a word means nothing, and
// stays as it is.
func ownEnv(r *definition.Report) map[string]string {
	env := map[string]string{}
	written := func(name string) bool { return r.Text != nil && r.Text.Root.Get("containerEnv").Get(name) != nil }
	for name, value := range r.Effective.ContainerEnv {
		if (written(name) || !strings.Contains(value, "${")) && !slices.ContainsFunc(r.Features, func(f definition.Feature) bool {
			return slices.Contains(f.ContainerEnv, definition.Variable{Name: name, Value: value})
		}) {
			env[name] = value
		}
	}
	return env
}

// userUpdate adds the layer that gives the remote user the numbers of the owner of a
// mounted folder (the standard's updateRemoteUserUID). Root's folder needs none.
func userUpdate(r *definition.Report, folder *Folder, made *recipe.Recipe) *recipe.Recipe {
	if folder == nil || folder.UID == 0 || !*r.Effective.UpdateRemoteUserUID {
		return made
	}
	if made == nil {
		made = recipe.From(r, imageOf(r))
	}
	return made.WithUser(folder.UID, folder.GID)
}
