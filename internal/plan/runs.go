package plan

import (
	"slices"

	"domicile/internal/definition"
)

// Start returns the steps of a start of a workspace that was made by p.
func (p *Plan) Start() []Step {
	var steps []Step
	if i := p.index(StepHost); i >= 0 { // the standard runs it at later starts too
		steps = append(steps, p.Steps[i])
	}
	if len(p.Services) > 0 {
		steps = append(steps, Step{Name: StepServices, Title: "Start the services beside"})
	}
	steps = append(steps, Step{Name: StepAgent, Title: "Start the container"})
	if slices.ContainsFunc(p.Services, func(s Service) bool { return s.Late }) {
		steps = append(steps, Step{Name: StepLateServices, Title: "Start the services that need the source"})
	}
	ready := Step{Name: StepReady, Title: "Open the ways in"}
	i := slices.IndexFunc(p.Steps, func(s Step) bool { return s.Name == "postStartCommand" })
	if i < 0 {
		return append(steps, ready)
	}
	command := Step{Name: "postStartCommand", Title: p.Steps[i].Title, Digest: p.Steps[i].Digest, Commands: p.Steps[i].Commands}
	if slices.ContainsFunc(p.Steps[i:], func(s Step) bool { return s.Name == StepReady }) {
		return append(steps, command, ready) // waitFor names it
	}
	return append(steps, ready, command)
}

// Stop and Remove return the steps of these runs.
func Stop() []Step   { return []Step{{Name: StepStop, Title: "Stop the container"}} }
func Remove() []Step { return []Step{{Name: StepRemove, Title: "Remove all that was made"}} }

// PutBack returns the step that a rebuild which failed ends with.
func PutBack() []Step {
	return []Step{{Name: StepPutBack, Title: "Put the earlier workspace back"}}
}

// Attach returns the steps of a run for somebody who connects, or none.
func (p *Plan) Attach() []Step {
	if len(p.Attached) == 0 {
		return nil
	}
	return []Step{{Name: "postAttachCommand", Title: "Run postAttachCommand", Commands: p.Attached}}
}

// Save returns the steps of a run that keeps a workspace's state.
func Save() []Step { return []Step{{Name: StepSave, Title: "Keep a snapshot"}} }

// Begin returns the steps that make a workspace of a snapshot: what is done in
// it already is not among them.
func (p *Plan) Begin() []Step {
	var steps []Step
	for _, name := range []string{StepHost, StepVolume, StepServices, StepContainer} {
		if i := p.index(name); i >= 0 {
			steps = append(steps, p.Steps[i])
		}
	}
	for _, s := range p.Start() {
		if s.Name != StepServices && s.Name != StepHost {
			steps = append(steps, s)
		}
	}
	if i := p.index(StepChecks); i >= 0 {
		steps = append(steps, p.Steps[i])
	}
	return steps
}

// Return returns the steps that make a workspace again what it was in a snapshot.
func (p *Plan) Return() []Step {
	return append([]Step{{Name: StepRemove, Title: "Remove what is there"}}, p.Begin()...)
}

func (p *Plan) index(name string) int {
	return slices.IndexFunc(p.Steps, func(s Step) bool { return s.Name == name })
}

// From makes a plan begin with a snapshot: with these images, by service, the workspace's own
// under the empty name.
func (p *Plan) From(images map[string]string) {
	p.Container.Saved, p.Container.Prepared = images[""], false
	for i := range p.Services {
		p.Services[i].Saved = images[p.Services[i].Name]
	}
}

// Rebuild gives the steps of a rebuild: the ways in open when all stages went well, so that
// the earlier workspace is given up only for one that works. aside tells whether the site can
// keep it until then.
func Rebuild(steps []Step, aside bool) []Step {
	var ready []Step
	var out []Step
	for _, s := range steps {
		if s.Name == StepReady {
			ready = append(ready, s)
			continue
		}
		if aside && s.Name == StepAgent {
			out = append(out, Step{Name: StepCarryOver, Title: "Bring over what shells remember"})
		}
		out = append(out, s)
	}
	at := len(out)
	for at > 0 && (out[at-1].Name == StepChecks || out[at-1].Name == StepPersonal) {
		at--
	}
	out = slices.Insert(out, at, ready...)
	if !aside {
		return out
	}
	first := slices.IndexFunc(out, func(s Step) bool { return s.Name == StepServices || s.Name == StepContainer })
	out = slices.Insert(out, first, Step{Name: StepSetAside, Title: "Set aside what is replaced"})
	return append(out, Step{Name: StepDropAside, Title: "Remove what was replaced"})
}

// Ahead gives the steps that can be done before a person is known: up to
// updateContentCommand (the standard's "Lifecycle"); then the snapshot is kept.
func Ahead(steps []Step) []Step {
	return append(slices.DeleteFunc(slices.Clone(steps), late), Step{Name: StepSave, Title: "Keep what was prepared"}, Step{Name: StepClean, Title: "Remove what it was prepared in"})
}

// Keep gives the steps that make a workspace which is kept warm: what can be done before a person
// is known.
func Keep(steps []Step) []Step {
	return append(slices.DeleteFunc(slices.Clone(steps), late), Step{Name: StepKeep, Title: "Keep it warm"})
}

// Take returns the steps by which somebody takes over a workspace that was kept warm: what
// belongs to a person.
func (p *Plan) Take() []Step {
	return append([]Step{{Name: StepTake, Title: "Take over what was kept warm"}}, slices.DeleteFunc(slices.Clone(p.Steps), func(s Step) bool { return !late(s) })...)
}

// late tells of a step that needs to know for whom it is done.
func late(s Step) bool {
	early := s.Name == "onCreateCommand" || s.Name == "updateContentCommand"
	return s.Name == StepReady || s.Name == StepChecks || s.Name == StepPersonal || slices.Contains(definition.Lifecycle, s.Name) && !early
}
