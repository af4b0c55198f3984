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
	at, err := r.place(asked)
	if err == nil && at.drained {
		err = fault.New("site-drained", "choose another, or leave it to the plan", "the site %s takes nothing new", asked)
	}
	return asked, err
}

// candidate is a site with what a definition would be there.
type candidate struct {
	at    place
	plan  *plan.Plan
	err   error // why it cannot be there
	there bool  // the image is there
	load  float64
}

// choose plans at each site and takes the one that fits best: of those that answer and can
// hold the workspace, one that has the image; of several, the one with the fewest
// workspaces for its memory. The reason is in words, for a person. The error is that of the
// plan where there is but one site, or no site can.
func (r *Runner) choose(ctx context.Context, planAt func(site string) (*plan.Plan, error)) (best candidate, reason string, err error) {
	var list []candidate
	for _, at := range r.open() {
		c, err := r.candidate(ctx, at, planAt)
		if err != nil {
			return best, "", err
		}
		list = append(list, c)
	}
	if len(list) == 0 {
		return best, "", fault.New("no-site-can", "start the service with a site: domicile serve -engine", "no site takes anything new")
	}
	slices.SortStableFunc(list, func(a, b candidate) int {
		return cmp.Or(last(a.err != nil, b.err != nil), last(!a.there, !b.there), cmp.Compare(a.load, b.load))
	})
	best = list[0]
	switch {
	case best.err != nil:
		return best, "", noSiteCan(list)
	case len(list) == 1:
		return best, "it is the only one", nil
	}
	second := list[1]
	switch {
	case fault.IsTransient(second.err):
		reason = fmt.Sprintf("the site %s does not answer", second.at.name)
	case second.err != nil:
		reason = fmt.Sprintf("the site %s cannot: %v", second.at.name, second.err)
	case best.there && !second.there:
		reason = "it has the image"
	case best.load < second.load:
		reason = "it has the fewest workspaces for its memory"
	default:
		reason = "it is the first of those that are as good"
	}
	return best, reason, nil
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
