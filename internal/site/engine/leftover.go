package engine

import (
	"context"
	"slices"
	"strings"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/image"
	"github.com/docker/docker/api/types/network"
	"github.com/docker/docker/api/types/volume"

	"domicile/internal/recipe"
	"domicile/internal/site"
)

// Leftovers finds what Domicile made here and nothing uses any more: images that were
// built and that no container is made from, agents of earlier versions, and the objects of
// workspaces that are not among the known ones. What others made is not looked at.
func (s *Site) Leftovers(ctx context.Context, known []string) (list []site.Leftover, err error) {
	containers, err := s.api.ContainerList(ctx, container.ListOptions{All: true})
	if err != nil {
		return nil, s.explain(err, "list the engine's containers")
	}
	used := map[string]bool{}
	for _, c := range containers {
		used[c.ImageID] = true
		for _, m := range c.Mounts {
			used[m.Name] = true
		}
	}
	built, err := s.api.ImageList(ctx, image.ListOptions{Filters: filters.NewArgs(filters.Arg("label", labelImage))})
	if err != nil {
		return nil, s.explain(err, "list the engine's images")
	}
	for _, i := range built {
		mine := slices.ContainsFunc(i.RepoTags, func(t string) bool { return strings.HasPrefix(t, recipe.TagPrefix) })
		if mine && !used[i.ID] {
			list = append(list, site.Leftover{Kind: "image", Name: i.RepoTags[0], Bytes: i.Size, Why: "no workspace is made from it; it would be built again where it is wanted"})
		}
	}
	states, err := s.leftStates(ctx, known, used)
	if err != nil {
		return nil, err
	}
	list = append(list, states...)
	mine := filters.NewArgs(filters.Arg("label", labelInstallation+"="+s.o.Installation), filters.Arg("label", labelWorkspace))
	gone := func(labels map[string]string) bool { return !slices.Contains(known, labels[labelWorkspace]) }
	const why = "its workspace was removed"
	for _, c := range containers {
		if c.Labels[labelInstallation] == s.o.Installation && c.Labels[labelWorkspace] != "" && gone(c.Labels) {
			list = append(list, site.Leftover{Kind: "container", Name: strings.TrimPrefix(c.Names[0], "/"), Bytes: c.SizeRw, Why: why})
		}
	}
	volumes, err := s.api.VolumeList(ctx, volume.ListOptions{})
	if err != nil {
		return nil, s.explain(err, "list the engine's volumes")
	}
	for _, v := range volumes.Volumes {
		switch {
		case v.Labels[labelInstallation] == s.o.Installation && v.Labels[labelWorkspace] != "" && gone(v.Labels):
			list = append(list, site.Leftover{Kind: "volume", Name: v.Name, Why: why})
		case v.Labels[labelAgent] != "" && v.Name != s.agentVolume() && !used[v.Name]:
			list = append(list, site.Leftover{Kind: "volume", Name: v.Name, Why: "an agent of an earlier version that no container uses"})
		}
	}
	networks, err := s.api.NetworkList(ctx, network.ListOptions{Filters: mine})
	if err != nil {
		return nil, s.explain(err, "list the engine's networks")
	}
	for _, n := range networks {
		if gone(n.Labels) {
			list = append(list, site.Leftover{Kind: "network", Name: n.Name, Why: why})
		}
	}
	return list, nil
}

// leftStates finds the images of states that are not among the known ones, and that no
// container is made from.
func (s *Site) leftStates(ctx context.Context, known []string, used map[string]bool) (list []site.Leftover, err error) {
	kept, err := s.api.ImageList(ctx, image.ListOptions{Filters: filters.NewArgs(filters.Arg("label", labelState))})
	if err != nil {
		return nil, s.explain(err, "list the states that were kept")
	}
	for _, i := range kept {
		state, mine := strings.CutPrefix(i.Labels[labelState], s.o.Installation+"-")
		if !mine || used[i.ID] || slices.Contains(known, state) {
			continue
		}
		// An image that somebody made elsewhere may have the label too, but not the name.
		at := slices.IndexFunc(i.RepoTags, func(t string) bool { return strings.HasPrefix(t, stateRepository) })
		if at < 0 {
			continue
		}
		list = append(list, site.Leftover{Kind: "image", Name: i.RepoTags[at], Bytes: i.Size, Why: "a state that was removed"})
	}
	return list, nil
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
		err = s.api.NetworkRemove(ctx, l.Name)
	}
	if isNotFound(err) {
		return nil
	}
	return s.explain(err, "remove the "+l.Kind+" "+l.Name)
}
