package machine

import (
	"context"
	"errors"
	"time"
)

// Stop has the machine sleep, with all that runs in it. Where its memory cannot be kept, what
// runs is ended and the machine is turned off.
func (s *Site) Stop(ctx context.Context, workspace string, grace time.Duration, services bool) error {
	m, found, err := s.machineOf(ctx, workspace)
	if err != nil || !found {
		return err
	}
	if m.ID != workspace {
		return s.stopHelper(ctx, m, workspace, grace)
	}
	if m.State == Running {
		if err := s.rest(ctx, workspace, grace, services); err != nil {
			return err
		}
	}
	if err := s.closeOutlet(ctx, workspace); err != nil {
		return err
	}
	return s.marked(ctx, workspace, false)
}

// rest has a machine that runs sleep, or turns it off where its memory cannot be kept.
func (s *Site) rest(ctx context.Context, workspace string, grace time.Duration, services bool) error {
	if err := s.o.Maker.Suspend(ctx, workspace); err != nil {
		if ctx.Err() != nil {
			return err
		}
		if errors.Is(err, ErrForgets) {
			err = nil // nothing went wrong
		} else {
			s.o.Say("the memory of the machine of %s cannot be kept, it is turned off: %v", workspace, err)
		}
		if e, engineErr := s.engine(workspace); engineErr == nil {
			limited, done := context.WithTimeout(ctx, grace+offLimit)
			_ = e.Stop(limited, workspace, grace, services) // it may not answer: it is turned off all the same
			done()
		}
		if offErr := s.o.Maker.Stop(ctx, workspace); offErr != nil {
			return errors.Join(err, offErr)
		}
	}
	return nil
}

// offLimit is how long a machine that is to be turned off has beyond the grace of its programs.
const offLimit = 10 * time.Second
