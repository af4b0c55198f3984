package plan

import (
	"fmt"
	"path"
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

// mount mounts a folder of the host wherever the source's volume would be.
func (p *Plan) mount(folder *Folder) {
	if folder == nil || p.Container.SourceTarget == "" {
		return
	}
	p.Container.SourceFolder = folder.Path
	for i := range p.Services {
		for j, m := range p.Services[i].Mounts {
			if m.Type == "source" {
				p.Services[i].Mounts[j] = Mount{Type: judge.MountFolder, Source: folder.Path, Target: m.Target, ReadOnly: m.ReadOnly}
			}
		}
	}
}
