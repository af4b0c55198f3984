package run

import (
	"context"

	"domicile/internal/site"
)

// Leftovers finds what nothing uses any more at all sites.
func (r *Runner) Leftovers(ctx context.Context) (map[string][]site.Leftover, error) {
	out := map[string][]site.Leftover{}
	for name, at := range r.o.Sites {
		list, err := r.o.Store.WorkspacesAt(ctx, name)
		if err != nil {
			return nil, err
		}
		known := make([]string, 0, len(list))
		for _, w := range list {
			known = append(known, w.SiteID())
		}
		states, err := r.o.Store.StatesAt(ctx, name)
		if err != nil {
			return nil, err
		}
		for _, s := range states {
			known = append(known, s.SiteID())
		}
		if out[name], err = at.Leftovers(ctx, known); err != nil {
			return nil, err
		}
	}
	return out, nil
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
		for _, l := range list {
			if err := r.o.Sites[name].RemoveLeftover(ctx, l); err != nil {
				r.o.Log.Warn("remove a leftover", "site", name, "kind", l.Kind, "name", l.Name, "error", err)
				continue
			}
			removed[name] = append(removed[name], l)
		}
	}
	return removed, nil
}
