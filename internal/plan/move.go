package plan

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"domicile/internal/amount"
	"domicile/internal/fault"
	"domicile/internal/judge"
)

// Move returns the steps of a run that takes a workspace from one site to another: nothing in it
// changes while its state is kept, and what is where it was goes last.
func (p *Plan) Move(from, to string) []Step {
	steps := []Step{{Name: StepStop, Title: "Stop it at " + from}, {Name: StepSave, Title: "Keep a snapshot"}, {Name: StepCarry, Title: "Bring the snapshot to " + to}, {Name: StepGo, Title: "Go to " + to}}
	return append(append(steps, p.Begin()...), Step{Name: StepLeave, Title: "Remove what is left at " + from})
}

// Copy returns the steps of a run that keeps a copy of a workspace at another site.
func Copy(to string) []Step {
	return append(Save(), Step{Name: StepCopy, Title: "Bring the copy to " + to})
}

// Anew returns the steps of a run that makes a workspace anew from what was kept of it.
func (p *Plan) Anew(to string) []Step {
	return append([]Step{{Name: StepAnew, Title: "Take what was kept at " + to}}, p.Begin()...)
}

// At gives a copy of the plan for another site, with what a size of that one limits. It refuses
// what the site lacks or does not allow: the error is a *fault.Fault, or judge.Refusals.
func (p *Plan) At(size Size, h Host, s judge.Subject) (*Plan, error) {
	b, err := json.Marshal(p)
	if err != nil {
		return nil, fmt.Errorf("copy a plan: %w", err)
	}
	q := &Plan{}
	if err := json.Unmarshal(b, q); err != nil {
		return nil, fmt.Errorf("copy a plan: %w", err)
	}
	q.From(nil) // it begins with what is brought
	q.resize(size)
	if err := q.fits(h); err != nil {
		return nil, err
	}
	j := judge.New(s)
	if q.index(StepHost) >= 0 {
		j.Need(judge.AllowHostCommands, "", "initializeCommand runs a command on the host itself")
	}
	q.judge(j)
	if err := j.Err(); err != nil {
		return nil, err
	}
	q.Granted = j.Granted
	return q, nil
}

// resize gives the container another size's limits in place of the earlier one's. What the
// definition itself asks for stays, where that is less.
func (p *Plan) resize(size Size) {
	c := &p.Container
	if c.CPUs == p.Size.CPUs {
		c.CPUs = 0
	}
	if c.Memory == p.Size.Memory {
		c.Memory = 0
	}
	if size.CPUs > 0 && (c.CPUs == 0 || c.CPUs > size.CPUs) {
		c.CPUs = size.CPUs
	}
	if size.Memory > 0 && (c.Memory == 0 || c.Memory > size.Memory) {
		c.Memory = size.Memory
	}
	p.Size = size
}

// fits refuses what the site lacks.
func (p *Plan) fits(h Host) error {
	lacks := func(format string, args ...any) error {
		return fault.New("site-cannot", "choose another site", "the site "+h.Site+" "+format, args...)
	}
	switch least := p.Container.LeastMemory; {
	case h.Lacks.Services && (len(p.Services) > 0 || len(p.Networks) > 0):
		return lacks("runs no services beside a workspace")
	case h.Lacks.Doors && p.Container.Door:
		return lacks("has no door for a workspace to make helpers by")
	case h.Lacks.Screens && p.Container.Screen != "":
		return lacks("gives no workspace a screen")
	case p.Domicile != nil && p.Domicile.Place != "" && !h.Alone:
		return lacks("gives no workspace a machine of its own")
	case h.CPUs > 0 && shown*float64(least) > float64(h.Memory):
		return lacks("has %s of memory; its definition asks for %s", amount.Of(h.Memory), amount.Of(least))
	case p.Size.Memory > 0 && least > p.Size.Memory:
		return fault.New("size-too-small", "choose a larger size with -size", "its definition asks for %s of memory, more than the size %s", amount.Of(least), p.Size)
	case h.CPUs > 0 && p.Container.GPUs != "" && !h.GPU:
		return lacks("has no graphics processor")
	}
	for _, device := range p.Container.Devices {
		if name, _, _ := strings.Cut(device, ":"); h.Devices != nil && !slices.Contains(h.Devices, name) {
			return lacks("has no device %s", name)
		}
	}
	return nil
}
