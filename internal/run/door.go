package run

import (
	"context"
	"net"
	"sync"

	lru "github.com/hashicorp/golang-lru/v2"

	"domicile/internal/agentlink"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// doorways are the doors that this service holds open.
type doorways struct {
	mu   sync.Mutex
	open map[int64]chan struct{}   // by workspace; closed once it is known whether the door is open
	said *lru.Cache[int64, string] // what was wrong with it last
}

// mostSaid is of how many doors it is remembered what was wrong with them.
const mostSaid = 1000

// noDoor is that of a workspace that has none: nobody waits for it.
var noDoor = func() chan struct{} { c := make(chan struct{}); close(c); return c }()

// openDoor sees to it that the door of a workspace that wants one is open until the instance ends
// or the service stops. Who wants to know waits for what it gives.
func (r *Runner) openDoor(s place, w records.Workspace, p *plan.Plan) <-chan struct{} {
	if !p.Container.Door || s.can.Doors == nil {
		return noDoor
	}
	d := &r.doors
	d.mu.Lock()
	defer d.mu.Unlock()
	if known := d.open[w.ID]; known != nil {
		return known
	}
	if d.open == nil {
		d.open = map[int64]chan struct{}{}
		d.said, _ = lru.New[int64, string](mostSaid) // which fails for sizes below 1 alone
	}
	known := make(chan struct{})
	d.open[w.ID] = known
	opened := sync.OnceFunc(func() { close(known) })
	go func() {
		defer opened()
		err := r.holdDoor(r.serving, s, w, opened)
		d.mu.Lock()
		defer d.mu.Unlock()
		delete(d.open, w.ID)
		if err == nil || r.serving.Err() != nil {
			d.said.Remove(w.ID)
			return
		}
		if before, _ := d.said.Get(w.ID); before != err.Error() { // it is tried again and again
			d.said.Add(w.ID, err.Error())
			r.o.Log.Warn("hold the door of a workspace open", "workspace", w.Name, "error", err)
		}
	}()
	return known
}

// holdDoor holds a door open until the connection to the agent ends.
func (r *Runner) holdDoor(ctx context.Context, s place, w records.Workspace, opened func()) error {
	listener, err := r.door(ctx, s, w)
	if err != nil {
		return err
	}
	defer listener.Close()
	opened()
	return s.can.Doors.ServeDoor(ctx, w.SiteID(), listener)
}

func (r *Runner) door(ctx context.Context, s place, w records.Workspace) (net.Listener, error) {
	ctx, cancel := context.WithTimeout(ctx, agentPatience)
	defer cancel()
	stream, err := s.Connect(ctx, w.SiteID())
	if err != nil {
		return nil, err
	}
	link, err := agentlink.Open(ctx, stream, r.o.Keys.Service())
	if err != nil {
		return nil, err
	}
	return link.Door(ctx, plan.DoorSocket)
}
