package machine

import (
	"context"
	"slices"
	"time"

	"domicile/internal/site"
)

// A machine's way out is a network of the host's engine, and ends with it. The machine goes on, and
// what runs in it, but reaches nothing; it is given another way out by sleeping a moment. So is one that
// was started while the engine did not answer.

// noWayOut is why such a machine is started anew.
const noWayOut = "its machine has no way out: the engine of the host was started again, or did not answer when it was to have one"

// outletLimit is how long the host's engine may take to tell of them: machines go on without it.
const outletLimit = 3 * time.Second

// lostOutlets are the machines whose way out has ended, of these. Without an engine on this host there is
// none, and of one that does not answer just now nothing is known.
func (s *Site) lostOutlets(ctx context.Context, of []Machine) []string {
	images, err := s.images()
	if err != nil || !slices.ContainsFunc(of, func(m Machine) bool { return m.State == Running }) {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, outletLimit)
	defer cancel()
	lost, err := images.LostOutlets(ctx)
	if err != nil {
		return nil
	}
	for _, m := range of { // the engine answers now, and did not when these were started
		if m.State == Running && m.NoWayOut && !slices.Contains(lost, m.ID) {
			lost = append(lost, m.ID)
		}
	}
	return lost
}

// lostFor is how long a way out must have ended before a machine is given another: an engine that ends
// stops what it runs first, and answers meanwhile.
const lostFor = 20 * time.Second

// lostForGood are those of the lost that have been so for a while, at one look after the other.
func (s *Site) lostForGood(lost []string, now time.Time) (list []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	since := map[string]time.Time{}
	for _, id := range lost {
		if since[id] = now; !s.lostSince[id].IsZero() {
			since[id] = s.lostSince[id]
		}
		if now.Sub(since[id]) >= lostFor {
			list = append(list, id)
		}
	}
	s.lostSince = since
	return list
}

// reopen has a machine rest that runs and whose way out has ended: it is started with another one. Its
// workspace and its helpers may all ask for it.
func (s *Site) reopen(ctx context.Context, machine string) error {
	return s.marking.Take(ctx, "outlet of "+machine, func() error {
		m, found, err := s.o.Maker.Find(ctx, machine)
		if err != nil || !found || !slices.Contains(s.lostOutlets(ctx, []Machine{m}), machine) {
			return err
		}
		site.Tell(ctx, "the machine sleeps a moment, and wakes with another way out")
		if err := s.rest(ctx, machine, offLimit, true); err != nil {
			return err
		}
		return s.closeOutlet(ctx, machine)
	})
}

// closeOutlet takes the way out of a machine that does not run.
func (s *Site) closeOutlet(ctx context.Context, workspace string) error {
	images, err := s.images()
	if err != nil {
		return nil // then it had none
	}
	return images.RemoveOutlet(ctx, workspace)
}
