package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/run"
	"domicile/internal/site"
	"domicile/internal/source"
)

func appendTo[T any](list *[]T, v T) *[]T {
	if list == nil {
		list = &[]T{}
	}
	*list = append(*list, v)
	return list
}

func checkView(c run.CheckResult) CheckResult {
	return CheckResult{Name: c.Name, Ok: c.OK, Expected: c.Expected, Found: c.Found, From: optional(c.From), At: c.At}
}

// tasks gives the definition's tasks, each with what a shell runs for it.
func tasks(d *definition.Domicile) (list []Task) {
	if d == nil {
		return nil
	}
	for _, t := range d.Tasks {
		v := Task{Name: t.Name, Description: optional(t.Description), Command: shellOf(t.Command), Script: script(d.Tasks, t.Name)}
		if len(t.After) > 0 {
			v.After = &t.After
		}
		list = append(list, v)
	}
	return list
}

// script runs a task behind all those it comes after, each once.
func script(all []definition.Task, name string) string {
	var order []string
	seen := map[string]bool{}
	var visit func(name string)
	visit = func(name string) {
		i := slices.IndexFunc(all, func(t definition.Task) bool { return t.Name == name })
		if seen[name] || i < 0 {
			return
		}
		seen[name] = true
		for _, before := range all[i].After {
			visit(before)
		}
		order = append(order, "{ "+shellOf(all[i].Command)+"\n}")
	}
	visit(name)
	return strings.Join(order, " && ")
}

// shellOf writes a command as a shell's line.
func shellOf(command json.RawMessage) string {
	parts, err := definition.Command{Command: command}.Parts()
	if err != nil || len(parts) == 0 {
		return ""
	}
	if parts[0].Args == nil {
		return parts[0].Shell
	}
	words := make([]string, len(parts[0].Args))
	for i, a := range parts[0].Args {
		words[i] = a
		if strings.Trim(a, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_./:=-") != "" || a == "" {
			words[i] = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
		}
	}
	return strings.Join(words, " ")
}

// CheckWorkspace proves the checks of a ready workspace now.
func (s *Server) CheckWorkspace(ctx context.Context, q CheckWorkspaceRequestObject) (CheckWorkspaceResponseObject, error) {
	w, err := s.ready(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	b, err := s.o.Runner.Check(ctx, w)
	if err != nil {
		return nil, err
	}
	var list []run.CheckResult
	if err := json.Unmarshal(b, &list); err != nil {
		return nil, fmt.Errorf("read the proof: %w", err)
	}
	return CheckWorkspace200JSONResponse(each(list, checkView)), nil
}

// RebuildWorkspace starts the run that brings a workspace to what its definition says now.
func (s *Server) RebuildWorkspace(ctx context.Context, q RebuildWorkspaceRequestObject) (RebuildWorkspaceResponseObject, error) {
	if _, err := s.find(ctx, q.Name); err != nil {
		return nil, err
	}
	w, err := s.o.Runner.Rebuild(ctx, account(ctx).ID, q.Name, value(q.Params.Pull))
	v, err := s.after(ctx, w, err)
	return RebuildWorkspace202JSONResponse(v), err
}

// MoveWorkspace starts the run that takes a workspace to another site.
func (s *Server) MoveWorkspace(ctx context.Context, q MoveWorkspaceRequestObject) (MoveWorkspaceResponseObject, error) {
	if _, err := s.find(ctx, q.Name); err != nil {
		return nil, err
	}
	move := s.o.Runner.Move
	if value(q.Body.FromKept) {
		move = s.o.Runner.Anew
	}
	w, err := move(ctx, account(ctx).ID, q.Name, q.Body.Site, value(q.Body.Size))
	v, err := s.after(ctx, w, err)
	return MoveWorkspace202JSONResponse(v), err
}

// ListServices tells how the services beside a workspace are.
func (s *Server) ListServices(ctx context.Context, q ListServicesRequestObject) (ListServicesResponseObject, error) {
	w, err := s.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	list, err := s.o.Runner.Services(ctx, w)
	return ListServices200JSONResponse(each(list, func(v site.Service) BesideService {
		image, _, _ := strings.Cut(v.Image, "@") // by its name; the digest says nothing to a person
		view := BesideService{Name: v.Name, Image: image, Running: v.Running}
		if v.Health != "" && v.Health != "none" {
			view.Health = new(BesideServiceHealth(v.Health))
		}
		if v.Started && !v.Running {
			view.ExitCode = &v.ExitCode
		}
		return view
	})), err
}

// serviceLines is how much of a service's log is shown.
const serviceLines = 500

// GetServiceLog answers the last lines that a service printed.
func (s *Server) GetServiceLog(ctx context.Context, q GetServiceLogRequestObject) (GetServiceLogResponseObject, error) {
	w, at, err := s.serviceAt(ctx, q.Name, q.Service)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = at.ServiceLog(ctx, w.SiteID(), q.Service, serviceLines, &b)
	return GetServiceLog200JSONResponse{Text: strings.ToValidUTF8(b.String(), "\uFFFD")}, err
}

// RestartService stops and starts one service.
func (s *Server) RestartService(ctx context.Context, q RestartServiceRequestObject) (RestartServiceResponseObject, error) {
	w, at, err := s.serviceAt(ctx, q.Name, q.Service)
	if err != nil {
		return nil, err
	}
	return RestartService204Response{}, at.RestartService(ctx, w.SiteID(), q.Service)
}

func (s *Server) serviceAt(ctx context.Context, name, service string) (records.Workspace, site.Overseer, error) {
	w, err := s.find(ctx, name)
	if err != nil {
		return w, nil, err
	}
	at, err := s.o.Runner.Overseer(w)
	if err != nil {
		return w, nil, err
	}
	var p plan.Plan
	if len(w.Plan) > 0 {
		if err := json.Unmarshal(w.Plan, &p); err != nil {
			return w, nil, fmt.Errorf("read the plan: %w", err)
		}
	}
	_, err = p.ServiceByName(service)
	return w, at, err
}

// PlanSource plans a workspace without making anything.
func (s *Server) PlanSource(ctx context.Context, q PlanSourceRequestObject) (PlanSourceResponseObject, error) {
	answer := PlanSource200JSONResponse{Steps: []PlannedStep{}}
	variations, err := definition.ParseVariations(value(q.Body.Vary))
	if err != nil {
		return nil, err
	}
	err = s.withSource(ctx, q.Body.Source, q.Body.Ref, func(c source.Checkout) error {
		first, err := s.o.Runner.PlanFirst(ctx, c, run.Request{Account: account(ctx).ID, Source: q.Body.Source, File: value(q.Body.File), Size: value(q.Body.Size), Site: value(q.Body.Site), Variations: variations})
		for _, v := range first.Steps {
			view := PlannedStep{Name: v.Name, Title: v.Title, There: &v.There}
			if v.Millis > 0 {
				view.Millis = &v.Millis
			}
			if len(v.Detail) > 0 {
				view.Detail = &v.Detail
			}
			answer.Steps = append(answer.Steps, view)
		}
		for _, f := range first.Refused {
			answer.Refused = appendTo(answer.Refused, Refusal{Says: f.Error(), Remedy: optional(f.Remedy)})
		}
		for _, o := range first.Others {
			answer.OtherSites = appendTo(answer.OtherSites, OtherSite{Site: o.Site, Why: o.Why})
		}
		if len(first.Granted) > 0 {
			answer.Granted = &first.Granted
		}
		if first.Size.Name != "" {
			answer.Size = new(sizeView(first.Size))
		}
		answer.Commit, answer.Site, answer.SiteReason = optional(c.Commit), optional(first.Site), optional(first.Reason)
		return err
	})
	return answer, err
}

// ForeseeRebuild tells what a rebuild would do, without doing it.
func (s *Server) ForeseeRebuild(ctx context.Context, q ForeseeRebuildRequestObject) (ForeseeRebuildResponseObject, error) {
	w, err := s.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	f, err := s.o.Runner.Foresee(ctx, w, value(q.Params.Pull))
	same := func(text string) string { return text }
	return ForeseeRebuild200JSONResponse{Steps: each(f.Steps, same), Replaces: f.Replaces, Keeps: new(f.Keeps), Lost: each(f.Lost, same), Stays: each(f.Stays, same)}, err
}

// StayWorkspace keeps a workspace from stopping by itself for a while.
func (s *Server) StayWorkspace(ctx context.Context, q StayWorkspaceRequestObject) (StayWorkspaceResponseObject, error) {
	w, err := s.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	var d time.Duration
	if text := value(q.Body.For); text != "" {
		if d, err = time.ParseDuration(text); err != nil || d <= 0 {
			return nil, fault.New("bad-duration", "give a time such as 2h or 90m", "%q is no time to stay", text)
		}
	}
	if _, err := s.o.Runner.Stay(ctx, w, d); err != nil {
		return nil, err
	}
	v, err := s.after(ctx, w, nil)
	return StayWorkspace200JSONResponse(v), err
}
