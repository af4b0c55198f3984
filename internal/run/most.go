package run

import (
	"context"
	"fmt"

	"domicile/internal/fault"
	"domicile/internal/records"
)

// mayRun refuses one more workspace at a site where as many run as may. It is asked in the
// transaction that writes the workspace down there: of two at a time, one is refused.
func (r *Runner) mayRun(ctx context.Context, db records.Queries, site string, workspace int64) error {
	most := r.SettingsAt(site).Most
	if most == 0 {
		return nil
	}
	running, err := db.RunningAt(ctx, site, workspace)
	if err != nil {
		return fmt.Errorf("count what runs at %s: %w", site, err)
	}
	if running >= most {
		return errMost(site, most)
	}
	return nil
}

func errMost(site string, most int) error {
	return fault.New("no-room", "stop one there, or choose another site", "as many workspaces run at the site %s as may at a time: %d", site, most)
}
