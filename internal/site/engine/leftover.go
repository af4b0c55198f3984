package engine

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/docker/docker/api/types"
	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/image"
	"github.com/docker/docker/api/types/volume"

	"domicile/internal/recipe"
	"domicile/internal/site"
)

// youngest is how old something must be to count as left over: before that it may belong to
// what is just being made.
const youngest = 10 * time.Minute

// Leftovers finds what Domicile made here and nothing uses any more: images that were
// built and that no container is made from, agents of earlier versions, and the objects of
// workspaces that are not among the known ones. What others made is not looked at. The
// known ones are asked for when the engine has been looked at: what came to be meanwhile is
// known then.
func (s *Site) Leftovers(ctx context.Context, known func(ctx context.Context) ([]string, error)) (list []site.Leftover, err error) {
	containers, err := s.api.ContainerList(ctx, container.ListOptions{All: true})
	if err != nil {
		return nil, s.explain(err, "list the engine's containers")
	}
	built, err := s.api.ImageList(ctx, image.ListOptions{Filters: filters.NewArgs(filters.Arg("label", labelImage))})
	if err != nil {
		return nil, s.explain(err, "list the engine's images")
	}
	kept, err := s.api.ImageList(ctx, image.ListOptions{Filters: filters.NewArgs(filters.Arg("label", labelSnapshot))})
	if err != nil {
		return nil, s.explain(err, "list the snapshots that were kept")
	}
	trials, err := s.api.ImageList(ctx, image.ListOptions{Filters: filters.NewArgs(filters.Arg("label", labelInstallation+"="+s.o.Installation), filters.Arg("reference", trialImage+":*"))})
	if err != nil {
		return nil, s.explain(err, "list the images that networks are tried with")
	}
	volumes, err := s.api.VolumeList(ctx, volume.ListOptions{})
	if err != nil {
		return nil, s.explain(err, "list the engine's volumes")
	}
	networks, err := s.ownNetworks(ctx, "")
	if err != nil {
		return nil, s.explain(err, "list the engine's networks")
	}
	ids, err := known(ctx)
	if err != nil {
		return nil, err
	}
	own, err := s.ownBytes(ctx)
	if err != nil {
		return nil, err
	}
	used := map[string]bool{}
	for _, c := range containers {
		used[c.ImageID] = true
		for _, m := range c.Mounts {
			used[m.Name] = true
		}
	}
	for _, i := range built {
		mine := slices.IndexFunc(tagsOf(i), func(t string) bool { return strings.HasPrefix(t, recipe.TagPrefix) })
		if mine < 0 || used[i.ID] || slices.ContainsFunc(ids, func(name string) bool { return s.local(name) == tagsOf(i)[mine] }) {
			continue
		}
		if made := s.imageCame(ctx, i.ID); s.old(made) {
			list = append(list, site.Leftover{Kind: "image", Name: tagsOf(i)[mine], Bytes: own[i.ID], Why: "no workspace is made from it; it would be built again where it is wanted", Again: true, Made: made})
		}
	}
	for _, i := range kept {
		snapshot, mine := strings.CutPrefix(i.Labels[labelSnapshot], s.o.Installation+"-")
		if !mine || used[i.ID] || slices.Contains(ids, snapshot) || !s.old(s.imageCame(ctx, i.ID)) {
			continue
		}
		// An image that somebody made elsewhere may have the label too, but not the name.
		at := slices.IndexFunc(tagsOf(i), func(t string) bool { return strings.HasPrefix(t, snapshotRepository) })
		if at < 0 {
			continue
		}
		list = append(list, site.Leftover{Kind: "image", Name: tagsOf(i)[at], Bytes: own[i.ID], Why: "a snapshot that was removed"})
	}
	for _, i := range trials {
		at := slices.IndexFunc(tagsOf(i), func(t string) bool { return strings.HasPrefix(t, trialImage+":") })
		if at >= 0 && tagsOf(i)[at] != s.trialName() && !used[i.ID] && s.old(s.imageCame(ctx, i.ID)) {
			list = append(list, site.Leftover{Kind: "image", Name: tagsOf(i)[at], Bytes: own[i.ID], Why: "networks were tried with an agent of an earlier version"})
		}
	}
	const why = "its workspace was removed"
	gone := func(labels map[string]string, made time.Time) bool {
		return s.old(made) && labels[labelInstallation] == s.o.Installation && labels[labelWorkspace] != "" && !slices.Contains(ids, labels[labelWorkspace])
	}
	for _, c := range containers {
		if of := s.outletOf(c); of != "" && s.old(time.Unix(c.Created, 0)) && !slices.Contains(ids, of) {
			list = append(list, site.Leftover{Kind: "container", Name: strings.TrimPrefix(c.Names[0], "/"), Why: why})
			continue
		}
		if gone(c.Labels, time.Unix(c.Created, 0)) {
			list = append(list, site.Leftover{Kind: "container", Name: strings.TrimPrefix(c.Names[0], "/"), Bytes: c.SizeRw, Why: why})
		}
	}
	for _, v := range volumes.Volumes {
		made, err := time.Parse(time.RFC3339, v.CreatedAt)
		switch {
		case err != nil: // an engine that does not say when: it is left alone
		case gone(v.Labels, made):
			list = append(list, site.Leftover{Kind: "volume", Name: v.Name, Why: why})
		case s.old(made) && v.Labels[labelAgent] != "" && strings.TrimSuffix(v.Name, filledMark) != s.agentVolume() && !used[v.Name]:
			list = append(list, site.Leftover{Kind: "volume", Name: v.Name, Why: "an agent of an earlier version that no container uses"})
		}
	}
	for _, n := range networks {
		if gone(n.Labels, n.Created) {
			list = append(list, site.Leftover{Kind: "network", Name: n.Name, Why: why})
		}
	}
	return list, nil
}

// ownBytes tells of each image what becomes free with it: layers that others have too stay.
func (s *Site) ownBytes(ctx context.Context) (map[string]int64, error) {
	usage, err := s.api.DiskUsage(ctx, types.DiskUsageOptions{Types: []types.DiskUsageObject{types.ImageObject}})
	if err != nil {
		return nil, s.explain(err, "measure the engine's images")
	}
	own := map[string]int64{}
	for _, i := range usage.Images {
		own[i.ID] = i.Size - max(i.SharedSize, 0)
	}
	return own, nil
}

// old tells of something that was made long enough ago; never of what is not known.
func (s *Site) old(made time.Time) bool { return !made.IsZero() && time.Since(made) >= s.o.Youngest }

// imageCame tells when an image came to be here, or was last asked for by its name: one that
// was made of what was kept of earlier builds may have an earlier time in itself.
func (s *Site) imageCame(ctx context.Context, id string) time.Time {
	i, err := s.api.ImageInspect(ctx, id)
	if err != nil {
		return time.Time{}
	}
	made, err := time.Parse(time.RFC3339Nano, i.Created)
	if err != nil {
		return time.Time{}
	}
	if i.Metadata.LastTagTime.After(made) {
		made = i.Metadata.LastTagTime
	}
	return made
}

// RemoveLeftover removes one of those that Leftovers found. What came into use meanwhile
// stays: the engine refuses, and that is told.
func (s *Site) RemoveLeftover(ctx context.Context, l site.Leftover) (err error) {
	switch l.Kind {
	case "image":
		_, err = s.api.ImageRemove(ctx, l.Name, image.RemoveOptions{})
	case "container":
		err = s.api.ContainerRemove(ctx, l.Name, container.RemoveOptions{Force: true, RemoveVolumes: true})
	case "volume":
		err = s.api.VolumeRemove(ctx, l.Name, false)
	case "network":
		if err = s.api.NetworkRemove(ctx, l.Name); err == nil {
			s.dropBorder(ctx, l.Name)
		}
	}
	if isNotFound(err) {
		return nil
	}
	return s.explain(err, "remove the "+l.Kind+" "+l.Name)
}
