package api

import (
	"context"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/ports"
	"domicile/internal/records"
)

// ListPorts lists the ports of a workspace, whether it runs or not.
func (s *Server) ListPorts(ctx context.Context, q ListPortsRequestObject) (ListPortsResponseObject, error) {
	w, err := s.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	p, err := s.o.Runner.PlanOf(ctx, w)
	if err != nil {
		return nil, err
	}
	answer := ListPorts200JSONResponse{Workspace: w.Name, Ports: []Port{}}
	var report wire.ListeningReport
	if w.State == records.Ready {
		report, err = s.ports.Report(ctx, w)
		answer.Known, answer.More = err == nil, whenTrue(report.More)
	}
	for _, port := range ports.Of(p, report.Listeners) {
		if l := port.Listener; l != nil && l.Network != "tcp" && !value(q.Params.Udp) {
			continue
		}
		v := portView(port.Port)
		if l := port.Listener; l != nil {
			v.Listener = &Listener{Network: ListenerNetwork(l.Network), Addresses: l.Addresses, User: optional(l.User), Pid: zero(l.PID), Process: optional(l.Process), Command: optional(l.Command)}
		}
		answer.Ports = append(answer.Ports, v)
	}
	return answer, nil
}

// reachRunning opens a connection to the agent of a workspace that is to run: in another the agent
// must not be started.
func (s *Server) reachRunning(ctx context.Context, w records.Workspace) (*agentlink.Link, error) {
	now, err := s.o.Store.Workspace(ctx, w.ID)
	if err != nil {
		return nil, err
	}
	if now.State != records.Ready {
		return nil, fault.New("not-ready", "start it: domicile start "+w.Name, "The workspace %s is %s", w.Name, now.State)
	}
	return s.o.Runner.Reach(ctx, now)
}

// portsKept are the running workspaces of an account that are watched while a stream stands.
type portsKept struct {
	server  *Server
	account int64
	kept    map[int64]func()
}

// look has those watched that run, and no others. What cannot be read is looked at again at the
// next change.
func (k *portsKept) look(ctx context.Context) {
	list, err := k.server.o.Store.WorkspacesWithin(ctx, k.account)
	if err != nil {
		return
	}
	running := map[int64]bool{}
	for _, w := range list {
		if w.State != records.Ready {
			continue
		}
		running[w.ID] = true
		if k.kept[w.ID] == nil {
			k.kept[w.ID] = k.server.ports.Keep(w)
		}
	}
	for id, release := range k.kept {
		if !running[id] {
			release()
			delete(k.kept, id)
		}
	}
}

func (k *portsKept) releaseAll() {
	for _, release := range k.kept {
		release()
	}
}
