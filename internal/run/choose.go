package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// SiteNames are the names of the sites, in order.
func (r *Runner) SiteNames() (names []string) {
	for _, at := range r.places.all() {
		names = append(names, at.name)
	}
	return names
}

// open are the sites that take something new.
func (r *Runner) open() []place {
	return slices.DeleteFunc(r.places.all(), func(at place) bool { return at.drained })
}

// siteFor is the site that is asked for; where there is but one, that one. Empty: the plan
// chooses.
func (r *Runner) siteFor(asked string) (string, error) {
	if asked == "" {
		if list := r.open(); len(list) == 1 {
			return list[0].name, nil
		}
		return "", nil
	}
	_, err := r.taking(asked)
	return asked, err
}

// taking is a site that takes something new.
func (r *Runner) taking(name string) (place, error) {
	at, err := r.place(name)
	if err == nil && at.drained {
		err = fault.New("site-drained", "choose another, or leave it to the plan", "the site %s takes nothing new", name)
	}
	return at, err
}

// candidate is a site with what a definition would be there.
type candidate struct {
	at    place
	plan  *plan.Plan
	err   error // why it cannot be there
	there bool  // the image is there
	load  float64
}

// choice is where a plan places a workspace, and why there.
type choice struct {
	candidate
	reason string // in words, for a person
	others []OtherSite
}

// OtherSite is a site that was not chosen, and why.
type OtherSite struct{ Site, Why string }

// choose plans at each site and takes the one that fits best: of those that answer and can
// hold the workspace, the one that costs least; of several, one that needs no machine for it; of
// these, one that has the image, and then the one with the fewest workspaces for its memory. The error is that of the plan where there
// is but one site, or no site can.
func (r *Runner) choose(ctx context.Context, planAt func(site string) (*plan.Plan, error)) (best choice, err error) {
	var list []candidate
	for _, at := range r.open() {
		c, err := r.candidate(ctx, at, planAt)
		if err != nil {
			return best, err
		}
		list = append(list, c)
	}
	if len(list) == 0 {
		return best, fault.New("no-site-can", "start the service with a site: domicile serve -engine; or add one: domicile sites add", "no site takes anything new")
	}
	slices.SortStableFunc(list, func(a, b candidate) int {
		return cmp.Or(last(a.err != nil, b.err != nil), a.costs(b), last(a.at.can.Apart, b.at.can.Apart), last(!a.there, !b.there), cmp.Compare(a.load, b.load))
	})
	best.candidate = list[0]
	if best.err != nil {
		return best, noSiteCan(list)
	}
	for _, c := range list[1:] {
		best.others = append(best.others, OtherSite{c.at.name, best.before(c)})
	}
	if best.reason = "it is the only one"; len(list) > 1 {
		best.reason = best.ahead(list[1])
	}
	for _, at := range r.places.all() {
		if at.drained {
			best.others = append(best.others, OtherSite{at.name, "it takes nothing new"})
		}
	}
	return best, nil
}

// costs orders what costs less before what costs more, in one currency.
func (c candidate) costs(other candidate) int {
	if c.plan == nil || other.plan == nil {
		return 0
	}
	a, b := c.plan.Size.Price, other.plan.Size.Price
	return cmp.Or(last(a.Hour > 0, b.Hour > 0), cmp.Compare(a.Currency, b.Currency), cmp.Compare(a.Hour, b.Hour))
}

// ahead tells why the best one is before the second.
func (c candidate) ahead(second candidate) string {
	switch {
	case fault.IsTransient(second.err):
		return fmt.Sprintf("the site %s does not answer", second.at.name)
	case second.err != nil:
		return fmt.Sprintf("the site %s cannot: %v", second.at.name, second.err)
	case c.costs(second) < 0:
		return "it costs least"
	case !c.at.can.Apart && second.at.can.Apart:
		return "it needs no machine of its own"
	case c.there && !second.there:
		return "it has the image"
	case c.load < second.load:
		return "it has the fewest workspaces for its memory"
	}
	return "it is the first of those that are as good"
}

// before tells why another one is behind the best.
func (c candidate) before(other candidate) string {
	switch {
	case fault.IsTransient(other.err):
		return fmt.Sprintf("it does not answer: %v", other.err)
	case other.err != nil:
		return fmt.Sprintf("it cannot: %v", other.err)
	case c.costs(other) < 0:
		return "it costs " + other.plan.Size.Price.String()
	case !c.at.can.Apart && other.at.can.Apart:
		return "no machine of its own is needed"
	case c.there && !other.there:
		return "it has not the image"
	case c.load < other.load:
		return "it has more workspaces for its memory"
	}
	return "it is as good, and behind by its name"
}

// last orders what is so behind what is not.
func last(a, b bool) int {
	switch {
	case a && !b:
		return 1
	case b && !a:
		return -1
	}
	return 0
}

func (r *Runner) candidate(ctx context.Context, at place, planAt func(site string) (*plan.Plan, error)) (c candidate, err error) {
	c.at = at
	found := r.Examined(at.name)
	if found.Err != nil || found.At.IsZero() {
		if c.err = found.Err; c.err == nil {
			c.err = fault.Transient(nil, "engine-unavailable", "", "it was not looked at yet")
		}
		return c, nil
	}
	if c.plan, c.err = planAt(at.name); c.err != nil {
		if ctx.Err() != nil || fault.IsTransient(c.err) || records.Unavailable(c.err) {
			return c, c.err // it says nothing of the site
		}
		return c, nil
	}
	workspaces, err := r.o.Store.WorkspacesAt(ctx, at.name)
	if err != nil {
		return c, fmt.Errorf("count the workspaces at %s: %w", at.name, err)
	}
	running := 0
	for _, w := range workspaces {
		if w.ShouldRun() && !w.Hidden() {
			running++
		}
	}
	if most := r.SettingsAt(at.name).Most; most > 0 && running >= most {
		c.err = errMost(at.name, most)
		return c, nil
	}
	c.load = float64(len(workspaces)) / float64(max(found.MemoryBytes, 1))
	c.there, c.err = hasImage(ctx, at, c.plan, c.plan.Container.Image)
	return c, nil
}

// noSiteCan says why not, of each site. One that does not answer may do so later.
func noSiteCan(list []candidate) error {
	same := func(c candidate) bool { return c.err.Error() == list[0].err.Error() }
	if !slices.ContainsFunc(list, func(c candidate) bool { return !same(c) }) {
		return list[0].err // what is wrong is wrong everywhere
	}
	var all []error
	passes := false
	for _, c := range list {
		all, passes = append(all, fmt.Errorf("%s: %w", c.at.name, c.err)), passes || fault.IsTransient(c.err)
	}
	f := fault.Wrap(errors.Join(all...), "no-site-can", "ask for less in the definition, or add a site", "no site can hold this workspace")
	f.Transient = passes
	return f
}
