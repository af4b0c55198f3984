package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/judge"
)

// appPorts are the ports of appPort: they are forwarded, never published on the host.
func appPorts(e *definition.Effective) (list []definition.Port) {
	items, isList := e.AppPort.([]any)
	if !isList && e.AppPort != nil {
		items = []any{e.AppPort}
	}
	for _, item := range items {
		text := fmt.Sprint(item)
		if i := strings.LastIndexByte(text, ':'); i >= 0 {
			text = text[i+1:]
		}
		if p, err := definition.ParsePort(strings.TrimSuffix(text, "/tcp")); err == nil {
			list = append(list, definition.Port{Number: p.Number})
		}
	}
	return list
}

// sourceTarget is where the volume with the source is mounted: where workspaceMount says,
// or at the standard's default. A workspaceMount of anything else than the source itself
// would be a mount of the host's files.
func sourceTarget(r *definition.Report, w *written) (string, error) {
	target := definition.DefaultMount(r.LocalFolder)
	if r.Effective.Nowhere {
		return "", nil
	}
	if m := r.Effective.WorkspaceMount; m != nil {
		if m.Type != "bind" || path.Clean(m.Source) != path.Clean(r.LocalFolder) {
			return "", fault.New("mount-refused", `mount the source itself: "source=${localWorkspaceFolder},target=…,type=bind"`,
				"%s: workspaceMount asks for %s %q, which is not the workspace's source", w.place("/workspaceMount"), m.Type, m.Source)
		}
		target = m.Target
	}
	target = path.Clean(target)
	if judge.TakenTarget(target) {
		return "", fault.New("mount-refused", "choose another folder, such as /workspaces/name", "%s: the source cannot be mounted at %s", w.place("/workspaceMount"), target)
	}
	return target, nil
}

// parts settles the mounts of the source and of its parts with where the source is.
func (c *Container) parts(w *written) {
	c.Mounts = slices.DeleteFunc(c.Mounts, func(m Mount) bool { return m.Type == judge.MountSource && m.Target == c.SourceTarget })
	if c.SourceTarget != "" {
		return
	}
	for _, m := range c.Mounts {
		if m.Type == judge.MountSource || m.Type == judge.MountFile {
			w.RefuseFor("say in workspaceMount where the source is mounted", c.Places.At("Mounts", m.Target), "%s cannot be a part of the source, which is mounted nowhere", m.Target)
		}
	}
}

// mount mounts a folder of the host wherever the source's volume would be.
func (p *Plan) mount(folder *Folder) {
	if folder == nil || p.Container.SourceTarget == "" {
		return
	}
	p.Container.SourceFolder = folder.Path
	folder.instead(p.Container.Mounts)
	for i := range p.Services {
		folder.instead(p.Services[i].Mounts)
	}
}

// instead takes the folder for the source in mounts.
func (f *Folder) instead(mounts []Mount) {
	for i, m := range mounts {
		if m.Type == judge.MountSource {
			mounts[i] = Mount{Type: judge.MountFolder, Source: f.Path, Target: m.Target, ReadOnly: m.ReadOnly}
		}
	}
}
