package plan

import (
	"math"
	"slices"
	"strconv"
	"strings"

	"domicile/internal/amount"
	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/judge"
)

// Host is what a site has, as it was last examined. The zero Host is not known: nothing is
// compared with it.
type Host struct {
	Site     string
	CPUs     int
	Memory   int64 // bytes
	DiskFree int64 // bytes; 0: not known, or it does not matter
	GPU      bool  // containers can be given a graphics processor
	// Architecture is that of its processors, as Go names it; empty: not known.
	Architecture string
	// Devices are the devices of its host, and the folders they are in; nil: not known.
	Devices []string
	Lacks   Lacks
	// Alone tells that each workspace has a machine of its own there.
	Alone bool
}

// Lacks is what a site cannot do for a workspace.
type Lacks struct {
	Services bool // services beside a workspace
	Doors    bool // helpers that a workspace makes itself
	Screens  bool // a screen
	Folders  bool // folders of the service's host in a workspace
}

// chooseMachines is what to do where a site has no machines.
const chooseMachines = "choose a site with machines (docs/machines.md), or take it out"

// able refuses what the site cannot do, before anything is made.
func (p *Plan) able(h Host, mounts bool, r *written) {
	lacks := func(property, what string) {
		r.RefuseFor("choose another site, or take it out", r.place(property), "the site %s %s", h.Site, what)
	}
	if h.Lacks.Services && (len(p.Services) > 0 || len(p.Networks) > 0) {
		lacks("/dockerComposeFile", "runs no services beside a workspace")
	}
	if h.Lacks.Doors && p.Domicile != nil && p.Domicile.Engine {
		lacks("/customizations/domicile/engine", "has no door for a workspace to make helpers by")
	}
	if h.Lacks.Screens && p.Domicile != nil && p.Domicile.Screen != "" {
		r.RefuseFor(chooseMachines, r.place("/customizations/domicile/screen"), "the site %s gives no workspace a screen", h.Site)
	}
	if p.Domicile != nil && p.Domicile.Place == definition.OwnMachine && h.Site != "" && !h.Alone {
		r.RefuseFor(chooseMachines, r.place("/customizations/domicile/place"), "the site %s gives no workspace a machine of its own", h.Site)
	}
	if h.Lacks.Folders && mounts {
		r.RefuseFor("leave -mount out", "", "the site %s has not the files of the service's host: no folder can be mounted in place", h.Site)
	}
}

// runs refuses images that are for other processors than those of the site. Of one that no registry
// told about, it is not known; what a Dockerfile begins with may be meant for others.
func (p *Plan) runs(h Host, d *definition.Report, r *written) {
	own := imageOf(d)
	for _, i := range d.Images {
		used := i.Reference == own || slices.ContainsFunc(p.Services, func(v Service) bool { return v.Recipe == nil && v.Image == pinnedImage(d, i.Reference) })
		if !used || h.Architecture == "" || len(i.Architectures) == 0 || slices.Contains(i.Architectures, h.Architecture) {
			continue
		}
		place := i.File
		if i.Line > 0 {
			place += ":" + strconv.Itoa(i.Line)
		}
		r.Add(fault.New("another-architecture", "choose another site, or an image that is for these, too", "%s: the image %s is for the processors %s; those of the site %s are %s", place, i.Reference, strings.Join(i.Architectures, ", "), h.Site, h.Architecture))
	}
}

// haveDevices refuses devices that the site has not.
func (p *Plan) haveDevices(h Host, r *written) {
	if h.Devices == nil {
		return
	}
	check := func(s Settings, at func(value string) string) {
		for _, value := range s.Devices {
			name, _, _ := strings.Cut(value, ":")
			if !slices.Contains(h.Devices, name) {
				r.Add(fault.New("no-device", "connect it, choose another site, or take it out of the definition", "%s: the site %s has no device %s", at(value), h.Site, name))
			}
		}
	}
	check(p.Container.Settings, func(value string) string { return p.Container.Places.At("Devices", value) })
	for _, v := range p.Services {
		check(v.Settings, func(string) string { return "the service " + v.Name })
	}
}

// shown is the part of a machine's memory that its system shows: some is taken before it
// counts, and a machine of 8 GB must do for who asks for 8gb.
const shown = 0.9

// needs refuses a definition that needs more than the host has ("hostRequirements"), before
// hours are lost, and gives it the graphics processor that it asks for.
func (p *Plan) needs(e *definition.Effective, h Host, r *written) {
	needs := e.HostRequirements
	if needs == nil {
		return
	}
	lacks := func(property, what string, args ...any) {
		place := r.place("/hostRequirements/" + property)
		r.Add(fault.New("host-too-small", "choose another site, or ask for less in the definition", "%s: hostRequirements."+property+" asks for "+what, append([]any{place}, args...)...))
	}
	if memory, err := definition.ParseAmount(needs.Memory); err == nil && memory < math.MaxInt64/2 {
		p.Container.LeastMemory = memory
	}
	known := h.CPUs > 0
	if known && needs.CPUs > h.CPUs {
		lacks("cpus", "%d processors; the site %s has %d", needs.CPUs, h.Site, h.CPUs)
	}
	if memory, err := definition.ParseAmount(needs.Memory); err == nil && known && shown*float64(memory) > float64(h.Memory) {
		lacks("memory", "%s; the site %s has %s", needs.Memory, h.Site, amount.Of(h.Memory))
	}
	if storage, err := definition.ParseAmount(needs.Storage); err == nil && known && h.DiskFree > 0 && storage > h.DiskFree {
		lacks("storage", "%s; of the disk of the site %s %s are free (what can go: domicile tidy)", needs.Storage, h.Site, amount.Of(h.DiskFree))
	}
	switch gpu := needs.GPU.(type) {
	case string: // "optional": where there is one, and it may be given
		if h.GPU && r.Allows(judge.AllowDevices) {
			p.Container.GPUs = "all"
		}
	case bool:
		if gpu {
			p.gpu(h, known, r, lacks)
		}
	case map[string]any:
		p.gpu(h, known, r, lacks)
	}
}

func (p *Plan) gpu(h Host, known bool, r *written, lacks func(property, what string, args ...any)) {
	if known && !h.GPU {
		lacks("gpu", "a graphics processor; the site %s has none that its engine can give to containers", h.Site)
		return
	}
	p.Container.GPUs = "all"
	p.Container.Places.note("GPUs", "", r.place("/hostRequirements/gpu"))
}
