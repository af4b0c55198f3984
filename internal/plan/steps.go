package plan

import (
	"slices"

	"domicile/internal/definition"
	"domicile/internal/judge"
)

func (p *Plan) steps(e *definition.Effective, in Input) {
	title := "Pull the image " + p.ImageName
	if p.Recipe != nil {
		title = "Build the image"
	}
	if len(e.InitializeCommand) > 0 {
		p.add("", Step{Name: StepHost, Title: "Run initializeCommand on the host", Commands: e.InitializeCommand}, e.InitializeCommand)
	}
	image := p.add("", Step{Name: StepImage, Title: title}, p.Image, p.Recipe)
	volume := ""
	clone := in.Mount == nil && p.Container.SourceTarget != ""
	if clone {
		volume = p.add("", Step{Name: StepVolume, Title: "Make the volume"})
	}
	if len(p.Services) > 0 {
		p.add(image+volume, Step{Name: StepServices, Title: "Start the services beside"}, unplaced(p.Services), p.Networks)
	}
	// Neither the workspace's name nor a snapshot that it begins with count: who makes the
	// same elsewhere, or from a snapshot, has the same container.
	p.joins()
	named := p.Container
	named.Saved, named.Prepared, named.Places = "", false, nil
	if named.Service != nil {
		own := named.Service.unplaced()
		named.Service = &own
	}
	if named.Hostname == in.Name {
		named.Hostname = ""
	}
	p.Container.Digest = p.add(image+volume, Step{Name: StepContainer, Title: "Make the container"}, named, p.Networks)
	for i := range p.Services {
		if p.Services[i].NetworkOf == judge.WorkspaceItself {
			p.Services[i].Joins = p.Container.Digest
		}
	}
	agent := p.add(p.Container.Digest, Step{Name: StepAgent, Title: "Start the agent"}, p.Session)
	// What a stage has done stays done where only variables of later programs change.
	settled, content := digest(p.Container.Digest, p.Session.User, p.Session.Folder), ""
	if clone {
		content = p.add(volume, Step{Name: StepSource, Title: "Put the source in"}, in.Commit)
	}
	if slices.ContainsFunc(p.Services, func(s Service) bool { return s.Late }) {
		p.add(content+settled, Step{Name: StepLateServices, Title: "Start the services that need the source"}, unplaced(p.Services))
	}
	p.lifecycle(e, settled, content)
	if p.Domicile != nil && len(p.Domicile.Checks) > 0 {
		p.Steps = append(p.Steps, Step{Name: StepChecks, Title: "Check what must hold"})
	}
	if in.Personal != "" {
		p.add(agent, Step{Name: StepPersonal, Title: "Put your own settings in"}, in.Personal)
	}
}
