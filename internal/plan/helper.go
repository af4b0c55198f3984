package plan

import "slices"

// Parent is the workspace that a helper belongs to.
type Parent struct {
	SiteID string
	Target string // where its source is mounted
	Folder string // where its programs start
	Mount  string // a folder of the host that is its source; empty: its volume
}

// Helper plans a helper of an image: a container beside a workspace, on its network. With
// share it has the workspace's source.
func Helper(name, image string, parent Parent, share bool) *Plan {
	p := &Plan{Image: image, ImageName: image, Ports: []Port{}, Container: Container{Image: image, Hostname: name, Override: true, SourceTarget: "/work"},
		Session: Session{Folder: "/work", Probe: "loginInteractiveShell"}}
	image = p.add("", Step{Name: StepImage, Title: "Pull the image " + p.ImageName}, p.Image)
	volume := p.add("", Step{Name: StepVolume, Title: "Make the volume"})
	p.Container.Digest = p.add(image+volume, Step{Name: StepContainer, Title: "Make the container"}, p.Container)
	p.add(p.Container.Digest, Step{Name: StepAgent, Title: "Start the agent"}, p.Session)
	p.Steps = append(p.Steps, Step{Name: StepReady, Title: "Open the ways in"})
	p.Help(parent, share)
	return p
}

// Help makes a plan that of a helper.
func (p *Plan) Help(parent Parent, share bool) {
	p.Container.HelperOf = parent.SiteID
	drop := []string{StepChecks, StepPersonal}
	if share {
		p.Container.SourceOf, p.Container.SourceFolder, p.Container.SourceTarget = parent.SiteID, parent.Mount, parent.Target
		p.Session.Folder = parent.Folder
		drop = append(drop, StepVolume, StepSource)
	}
	p.Steps = slices.DeleteFunc(p.Steps, func(s Step) bool { return slices.Contains(drop, s.Name) })
	at := p.index(StepReady)
	p.Steps = slices.Insert(p.Steps, at, Step{Name: StepJoin, Title: "Join the workspace"})
	p.Container.Digest = digest("helper", p.Container.Digest, parent.SiteID, share)
}
