package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"domicile/internal/advice"
	"domicile/internal/agent/wire"
	"domicile/internal/definition"
	"domicile/internal/editor"
	"domicile/internal/fault"
	"domicile/internal/gateway"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/run"
)

// runsShown is how many of a workspace's runs are listed.
const runsShown = 50

// ListWorkspaces lists the account's workspaces with their last runs.
func (s *Server) ListWorkspaces(ctx context.Context, q ListWorkspacesRequestObject) (ListWorkspacesResponseObject, error) {
	list, beside, err := s.o.Store.Overview(ctx, account(ctx).ID)
	if err != nil {
		return nil, err
	}
	if value(q.Params.Helpers) {
		for _, w := range slices.Clone(list) {
			list = append(list, beside.Helpers[w.ID]...)
		}
	}
	views, err := s.views(ctx, list, beside)
	return ListWorkspaces200JSONResponse(views), err
}

// wholeViews shows workspaces with all that is beside them.
func (s *Server) wholeViews(ctx context.Context, list []records.Workspace) ([]Workspace, error) {
	ids := make([]int64, len(list))
	for i, w := range list {
		ids[i] = w.ID
	}
	beside, err := s.o.Store.Related(ctx, ids)
	if err != nil {
		return nil, err
	}
	return s.views(ctx, list, beside)
}

// views shows workspaces with what was found beside them.
func (s *Server) views(ctx context.Context, list []records.Workspace, beside records.Related) ([]Workspace, error) {
	plans, err := s.o.Runner.Plans(ctx, list)
	if err != nil {
		return nil, err
	}
	views := make([]Workspace, 0, len(list))
	for _, w := range list {
		v := s.workspaceView(w, plans[w.ID])
		v.Epoch = optional(beside.Typists[w.ID].Epoch)
		for _, h := range beside.Helpers[w.ID] {
			v.Helpers = appendTo(v.Helpers, HelperName{Name: run.HelperName(h), Full: h.Name, State: h.State})
		}
		if r, ok := beside.Last[w.ID]; ok {
			v.Run = new(runView(w.Name, r, beside.Steps[r.ID]))
		}
		if w.State == records.Failed || w.State == records.Lost {
			v.GoesOn = new(!slices.ContainsFunc(beside.Steps[beside.Last[w.ID].ID], hasWrongSource))
		}
		views = append(views, v)
	}
	return views, nil
}

// hasWrongSource tells of a step that failed because the workspace's address or ref is wrong,
// which no other try mends.
func hasWrongSource(s records.Step) bool {
	switch s.Code {
	case "bad-source", "bad-ref", "ref-not-found", "not-a-repository":
		return s.State == records.Failed && s.Name == plan.StepFetch
	}
	return false
}

// view shows one workspace. Its record is read once more behind its runs: a run that is over
// has left its state there, and who sees the one sees the other.
func (s *Server) view(ctx context.Context, w records.Workspace) (Workspace, error) {
	beside, err := s.o.Store.Related(ctx, []int64{w.ID})
	if err != nil {
		return Workspace{}, err
	}
	now, err := s.o.Store.Workspace(ctx, w.ID)
	switch {
	case err == nil:
		w = now
	case !errors.Is(err, records.ErrNotFound): // just removed: it is shown as it was
		return Workspace{}, err
	}
	views, err := s.views(ctx, []records.Workspace{w}, beside)
	if err != nil {
		return Workspace{}, err
	}
	return views[0], nil
}

// find finds the account's workspace.
func (s *Server) find(ctx context.Context, name string) (records.Workspace, error) {
	w, err := s.o.Store.WorkspaceByName(ctx, account(ctx).ID, name)
	if errors.Is(err, records.ErrNotFound) || err == nil && w.Hidden() {
		err = fault.New("no-workspace", "domicile list shows yours", "You have no workspace %q", name)
		if of, part, dotted := strings.Cut(name, "."); dotted {
			if _, ofErr := s.o.Store.WorkspaceByName(ctx, account(ctx).ID, of); ofErr == nil {
				err = fault.New("no-workspace", "domicile forward "+of+" "+part+":PORT", "%s is not a helper of %s. A service of the workspace is reached by its ports", part, of)
			}
		}
		if _, owner, guest := gateway.SplitOwner(name); guest {
			err = fault.New("no-workspace", "domicile guests tells where you are a guest: there you may use shell, run, forward, pipe and ssh", "This is for the owner of a workspace, and %q would be one of %s", name, owner)
		}
	}
	return w, err
}

// GetWorkspace answers one workspace.
func (s *Server) GetWorkspace(ctx context.Context, q GetWorkspaceRequestObject) (GetWorkspaceResponseObject, error) {
	w, err := s.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	v, err := s.view(ctx, w)
	if host, port, addressErr := s.sshAddress(); err == nil && addressErr == nil && w.State == records.Ready {
		v.Editors, err = s.editorsAt(ctx, editor.Place{Host: host, Port: port, User: w.Name, Address: w.Name + ".domicile", Workspace: w.Name, Path: value(v.Folder)})
	}
	if err == nil && w.State == records.Lost {
		kept, found, err := s.o.Runner.KeptOf(ctx, w.ID)
		if err != nil {
			return nil, err
		}
		if found {
			v.Kept = &KeptState{Site: kept.Site, Created: kept.Created}
		}
	}
	return GetWorkspace200JSONResponse(v), err
}

// Provision starts the run that makes a workspace.
func (s *Server) Provision(ctx context.Context, q ProvisionRequestObject) (ProvisionResponseObject, error) {
	variations, err := definition.ParseVariations(value(q.Body.Vary))
	if err != nil {
		return nil, err
	}
	w, err := s.o.Runner.Provision(ctx, run.Request{Account: account(ctx).ID, Source: q.Body.Source, Ref: value(q.Body.Ref), Name: value(q.Body.Name),
		File: value(q.Body.File), Site: value(q.Body.Site), Size: value(q.Body.Size), Mount: value(q.Body.Mount), Variations: variations})
	v, err := s.after(ctx, w, err)
	return Provision202JSONResponse(v), err
}

// StartWorkspace starts the run that starts a workspace.
func (s *Server) StartWorkspace(ctx context.Context, q StartWorkspaceRequestObject) (StartWorkspaceResponseObject, error) {
	if _, err := s.find(ctx, q.Name); err != nil {
		return nil, err
	}
	w, err := s.o.Runner.Start(ctx, account(ctx).ID, q.Name)
	v, err := s.after(ctx, w, err)
	return StartWorkspace202JSONResponse(v), err
}

// StopWorkspace starts the run that stops a workspace.
func (s *Server) StopWorkspace(ctx context.Context, q StopWorkspaceRequestObject) (StopWorkspaceResponseObject, error) {
	if _, err := s.find(ctx, q.Name); err != nil {
		return nil, err
	}
	w, err := s.o.Runner.Stop(ctx, account(ctx).ID, q.Name)
	v, err := s.after(ctx, w, err)
	return StopWorkspace202JSONResponse(v), err
}

// RemoveWorkspace starts the run that removes a workspace.
func (s *Server) RemoveWorkspace(ctx context.Context, q RemoveWorkspaceRequestObject) (RemoveWorkspaceResponseObject, error) {
	if _, err := s.find(ctx, q.Name); err != nil {
		return nil, err
	}
	w, err := s.o.Runner.Remove(ctx, account(ctx).ID, q.Name)
	v, err := s.after(ctx, w, err)
	return RemoveWorkspace202JSONResponse(v), err
}

// after shows a workspace as it is after a request.
func (s *Server) after(ctx context.Context, w records.Workspace, err error) (Workspace, error) {
	if err != nil {
		return Workspace{}, err
	}
	now, err := s.o.Store.Workspace(ctx, w.ID)
	if errors.Is(err, records.ErrNotFound) {
		now, err = w, nil // removed already
	}
	if err != nil {
		return Workspace{}, err
	}
	return s.view(ctx, now)
}

// ListRuns lists a workspace's runs.
func (s *Server) ListRuns(ctx context.Context, q ListRunsRequestObject) (ListRunsResponseObject, error) {
	w, err := s.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	list, err := s.o.Store.Runs(ctx, w.ID, runsShown)
	if err != nil {
		return nil, err
	}
	steps, err := s.o.Store.Steps(ctx, each(list, func(r records.Run) int64 { return r.ID })...)
	return ListRuns200JSONResponse(each(list, func(r records.Run) Run {
		v := runView(w.Name, r, steps)
		v.Advice = s.adviceFor(w, r, steps)
		return v
	})), err
}

// mine finds a run of one of the account's workspaces.
func (s *Server) mine(ctx context.Context, id int64) (records.Workspace, records.Run, error) {
	r, err := s.o.Store.Run(ctx, id)
	if err != nil {
		return records.Workspace{}, r, err
	}
	w, err := s.o.Store.Workspace(ctx, r.Workspace)
	if err == nil && w.Account != account(ctx).ID {
		err = records.ErrNotFound
	}
	return w, r, err
}

// GetRun answers one run.
func (s *Server) GetRun(ctx context.Context, q GetRunRequestObject) (GetRunResponseObject, error) {
	w, r, err := s.mine(ctx, q.Id)
	if err != nil {
		return nil, err
	}
	steps, err := s.o.Store.Steps(ctx, r.ID)
	v := runView(w.Name, r, steps)
	v.Advice = s.adviceFor(w, r, steps)
	return GetRun200JSONResponse(v), err
}

// GetLog answers lines of a run's log.
func (s *Server) GetLog(ctx context.Context, q GetLogRequestObject) (GetLogResponseObject, error) {
	_, r, err := s.mine(ctx, q.Id)
	if err != nil {
		return nil, err
	}
	step, limit := -1, 2000
	if q.Params.Step != nil {
		step = *q.Params.Step
	}
	if q.Params.Limit != nil {
		limit = min(max(*q.Params.Limit, 1), 10000)
	}
	lines, err := s.o.Store.Log(ctx, r.ID, value(q.Params.After), step, limit)
	return GetLog200JSONResponse{Lines: each(lines, func(l records.LogLine) LogLine {
		return LogLine{Number: l.Number, Step: l.Step, At: l.At, Text: l.Text}
	})}, err
}

// ListTerminals lists the terminals inside a workspace.
func (s *Server) ListTerminals(ctx context.Context, q ListTerminalsRequestObject) (ListTerminalsResponseObject, error) {
	v, err := s.comes(ctx, q.Name, records.MayLook)
	if err != nil {
		return nil, err
	}
	link, err := s.o.Runner.Reach(ctx, v.Workspace)
	if err != nil {
		return nil, err
	}
	defer link.Close()
	list, err := link.Quiet().Terminals(ctx)
	return ListTerminals200JSONResponse(each(list, func(t wire.Terminal) Terminal {
		return Terminal{Name: t.Name, Command: t.Command, Attached: t.Attached, Started: t.Started}
	})), err
}

// ready finds a workspace that can be worked in.
func (s *Server) ready(ctx context.Context, name string) (records.Workspace, error) {
	w, err := s.find(ctx, name)
	if err == nil && w.State != records.Ready {
		remedy := "watch it: domicile follow " + name
		if w.State == records.Stopped {
			remedy = "start it: domicile start " + name
		}
		err = fault.New("not-ready", remedy, "The workspace %s is %s", name, w.State)
	}
	return w, err
}

// workspaceView shows a workspace with its plan, or without one.
func (s *Server) workspaceView(w records.Workspace, p *plan.Plan) Workspace {
	v := Workspace{Id: w.ID, Name: w.Name, Source: w.Source, Ref: optional(w.Ref), Commit: optional(w.Commit), File: optional(w.File),
		State: WorkspaceState(w.State), Reason: optional(w.Reason), Site: w.Site, Created: w.Created, LastUsed: w.LastUsed, Ports: []Port{}, Size: optional(w.Size)}
	if list, err := run.VariationsOf(w); err == nil && len(list) > 0 { // what cannot be read varies nothing
		v.Vary = new(each(list, definition.Variation.String))
	}
	if w.Mount {
		v.Mount = &w.Mount
	}
	if w.State == records.Ready {
		v.StopsAt = w.StopsAt
		if w.StayUntil != nil && w.StayUntil.After(time.Now()) {
			v.StayUntil = w.StayUntil
		}
	}
	host, port, err := net.SplitHostPort(s.o.SSH)
	if err == nil {
		v.Ssh = optional(fmt.Sprintf("ssh -p %s %s@%s", port, w.Name, host))
	}
	if p != nil {
		v.Definition, v.Price = optional(p.Definition), priceView(p.Size.Price)
		v.Screen = optional(p.Container.Screen)
		v.Image, v.Folder, v.User = optional(p.ImageName), optional(p.Session.Folder), optional(p.Session.User)
		for _, port := range p.Ports {
			v.Ports = append(v.Ports, portView(port))
		}
		if r := p.Recipe; r != nil && r.Dockerfile != nil {
			v.Dockerfile = optional(r.Dockerfile.Path)
		} else if r != nil {
			v.Image = optional(r.Base)
		}
		for _, service := range p.Services {
			v.Services = appendTo(v.Services, service.Name)
		}
		for _, t := range tasks(p.Domicile) {
			v.Tasks = appendTo(v.Tasks, t)
		}
	}
	var checks []run.CheckResult
	if json.Unmarshal(w.Checks, &checks) == nil && len(checks) > 0 {
		v.Checks = new(each(checks, checkView))
	}
	var session wire.Session
	if json.Unmarshal(w.Session, &session) == nil {
		v.User = optional(session.User)
	}
	return v
}

// portView shows a port with what the definition says of it.
func portView(p plan.Port) Port {
	v := Port{Port: p.Port.String(), From: optional(p.From), Label: optional(p.Label), Protocol: optional(p.Protocol), RequireLocalPort: whenTrue(p.RequireLocalPort), ElevateIfNeeded: whenTrue(p.ElevateIfNeeded)}
	if p.OnAutoForward != "" {
		v.OnAutoForward = new(PortOnAutoForward(p.OnAutoForward))
	}
	return v
}

func runView(workspace string, r records.Run, steps []records.Step) Run {
	v := Run{Id: r.ID, Workspace: workspace, Kind: RunKind(r.Kind), State: RunState(r.State), Reason: optional(r.Reason), Note: optional(r.Note),
		Created: r.Created, Started: r.Started, Ended: r.Ended, Steps: []Step{}}
	for _, s := range steps {
		if s.Run == r.ID {
			v.Steps = append(v.Steps, Step{Position: s.Position, Name: s.Name, Title: s.Title, State: StepState(s.State), Reason: optional(s.Reason), Code: optional(s.Code),
				Attempts: s.Attempts, Started: s.Started, Ended: s.Ended, LastMillis: s.LastMillis})
		}
	}
	return v
}

// adviceFor tells where the time of a run went that is over, and what would make the next
// one faster.
func (s *Server) adviceFor(w records.Workspace, r records.Run, steps []records.Step) *Advice {
	if r.State != records.Succeeded || r.Kind != records.KindProvision && r.Kind != records.KindRebuild {
		return nil
	}
	var p plan.Plan
	_ = json.Unmarshal(w.Plan, &p) // without it there is less to say
	var list []advice.Step
	for _, s := range steps {
		if s.Run != r.ID || s.Started == nil || s.Ended == nil {
			continue
		}
		v := advice.Step{Name: s.Name, Title: s.Title, Took: s.Ended.Sub(*s.Started), Done: s.State == records.Succeeded, Attempts: s.Attempts}
		for _, planned := range p.Steps {
			if planned.Name == s.Name {
				for _, c := range planned.Commands {
					v.Commands = append(v.Commands, c.Words())
				}
			}
		}
		list = append(list, v)
	}
	where, faster := advice.Where(list), advice.Faster(list, w.Source, s.o.Runner.Prepares(w.Site))
	if len(where)+len(faster) == 0 {
		return nil
	}
	same := func(text string) string { return text }
	return &Advice{Where: each(where, same), Faster: each(faster, same)}
}
