package run

import (
	"context"

	"domicile/internal/records"
	"domicile/internal/site"
)

// Leftovers finds what nothing uses any more at all sites that answer. The error is that of
// a site where none does.
func (r *Runner) Leftovers(ctx context.Context) (map[string][]site.Leftover, error) {
	out := map[string][]site.Leftover{}
	var wrong error
	for _, at := range r.places.all() {
		if at.can.Sweeper == nil {
			continue
		}
		list, err := at.can.Sweeper.Leftovers(ctx, r.known)
		if err != nil {
			r.o.Log.Warn("look for leftovers", "site", at.name, "error", err)
			wrong = err
			continue
		}
		out[at.name] = list
	}
	if len(out) == 0 {
		return nil, wrong
	}
	return out, nil
}

// known lists the ids of all workspaces and snapshots, and the images that these workspaces are
// planned with. Those of other sites are among them: two sites may reach one engine, and what
// the one has there is no leftover of the other's.
func (r *Runner) known(ctx context.Context) (ids []string, err error) {
	list, err := r.o.Store.EveryWorkspace(ctx)
	if err != nil {
		return nil, err
	}
	for _, w := range list {
		ids = append(ids, w.SiteID())
	}
	plans, err := r.Plans(ctx, list)
	if err != nil {
		return nil, err
	}
	for _, p := range plans {
		ids = append(ids, p.Made()...)
	}
	snapshots, err := r.o.Store.EverySnapshot(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range snapshots {
		ids = append(ids, s.SiteID())
	}
	for _, at := range r.places.all() { // what is found there is about to be kept
		left, err := r.o.Store.LeftBehind(ctx, at.name)
		if err != nil {
			return nil, err
		}
		for _, l := range left {
			ids = append(ids, records.Snapshot{ID: l.Snapshot}.SiteID())
		}
	}
	return ids, nil
}

// Tidy removes what nothing uses any more. It looks again first, so that what came into
// use meanwhile stays.
func (r *Runner) Tidy(ctx context.Context) (removed map[string][]site.Leftover, err error) {
	all, err := r.Leftovers(ctx)
	if err != nil {
		return nil, err
	}
	removed = map[string][]site.Leftover{}
	for name, list := range all {
		at, err := r.place(name)
		if err != nil {
			continue // it was removed meanwhile
		}
		for _, l := range list {
			if err := at.can.Sweeper.RemoveLeftover(ctx, l); err != nil {
				r.o.Log.Warn("remove a leftover", "site", name, "kind", l.Kind, "name", l.Name, "error", err)
				continue
			}
			removed[name] = append(removed[name], l)
		}
	}
	return removed, nil
}
