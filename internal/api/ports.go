package api

import (
	"context"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/plan"
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
	var here ports.Listening
	beside := map[string]ports.Listening{}
	if w.State == records.Ready {
		report, err := s.ports.Report(ctx, w)
		here = ports.Listening{Listeners: report.Listeners, Known: err == nil}
		more := report.More
		for service, r := range report.Beside {
			beside[service] = ports.Listening{Listeners: r.Listeners, Known: true}
			more = more || r.More
		}
		answer.Known, answer.More = here.Known, whenTrue(more)
	}
	for _, port := range ports.Of(p, here, beside) {
		if l := port.Listener; l != nil && l.Network != "tcp" && !value(q.Params.Udp) {
			continue
		}
		v := portView(port.Port)
		v.Known = whenTrue(port.Known)
		if l := port.Listener; l != nil {
			v.Listener = &Listener{Network: ListenerNetwork(l.Network), Addresses: l.Addresses, User: optional(l.User), Pid: zero(l.PID), Process: optional(l.Process), Command: optional(l.Command)}
		}
		answer.Ports = append(answer.Ports, v)
	}
	return answer, nil
}

// watched is the server as it tells what listens.
type watched struct{ *Server }

func (s watched) Listening(ctx context.Context, w records.Workspace, service string, f func(wire.ListeningReport)) error {
	if service != "" {
		now, err := s.running(ctx, w)
		if err != nil {
			return err
		}
		return s.o.Runner.ServiceListens(ctx, now, service, f)
	}
	link, err := s.reachRunning(ctx, w)
	if err != nil {
		return err
	}
	defer link.Close()
	return link.Quiet().Listening(ctx, f)
}

func (s watched) Beside(ctx context.Context, w records.Workspace) ([]string, error) {
	p, err := s.o.Runner.PlanOf(ctx, w)
	if err != nil {
		return nil, err
	}
	return each(p.Services, func(v plan.Service) string { return v.Name }), nil
}

// reachRunning opens a connection to the agent of a workspace that is to run: in another the agent
// must not be started.
func (s *Server) reachRunning(ctx context.Context, w records.Workspace) (*agentlink.Link, error) {
	now, err := s.running(ctx, w)
	if err != nil {
		return nil, err
	}
	return s.o.Runner.Reach(ctx, now)
}

// running is a workspace as it is now, which is to run.
func (s *Server) running(ctx context.Context, w records.Workspace) (records.Workspace, error) {
	now, err := s.o.Store.Workspace(ctx, w.ID)
	if err == nil && now.State != records.Ready {
		err = fault.New("not-ready", "start it: domicile start "+w.Name, "The workspace %s is %s", w.Name, now.State)
	}
	return now, err
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
