package run

import (
	"context"
	"fmt"
)

// Promised adds up the memory, in bytes, that the workspaces which are to run at a site may take
// by their limits, with what runs beside them, and counts those without a limit.
func (r *Runner) Promised(ctx context.Context, site string) (bytes int64, unlimited int, err error) {
	list, err := r.o.Store.WorkspacesAt(ctx, site)
	if err != nil {
		return 0, 0, fmt.Errorf("list the workspaces at %s: %w", site, err)
	}
	plans, err := r.Plans(ctx, list)
	if err != nil {
		return 0, 0, fmt.Errorf("read the plans of the workspaces at %s: %w", site, err)
	}
	for _, w := range list {
		p := plans[w.ID]
		if p == nil || !w.ShouldRun() {
			continue
		}
		if p.Container.Memory == 0 {
			unlimited++
		}
		bytes += p.Container.Memory
		for _, v := range p.Services {
			bytes += v.Memory
		}
	}
	return bytes, unlimited, nil
}
