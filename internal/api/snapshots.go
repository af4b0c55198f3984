package api

import (
	"context"
	"errors"
	"fmt"
	"time"

	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/run"
)

// ListSnapshots lists the account's snapshots.
func (s *Server) ListSnapshots(ctx context.Context, _ ListSnapshotsRequestObject) (ListSnapshotsResponseObject, error) {
	list, err := s.o.Store.Snapshots(ctx, account(ctx).ID)
	return ListSnapshots200JSONResponse(each(list, func(v records.Snapshot) Snapshot {
		return Snapshot{Id: v.ID, Name: v.Name, Note: v.Note, Source: v.Source, Commit: optional(v.Commit), Site: v.Site, Bytes: v.Bytes, Ready: v.Ready, Created: v.Created, Copy: whenTrue(v.Copy)}
	})), err
}

// SnapshotWorkspace starts the run that keeps a snapshot of a workspace.
func (s *Server) SnapshotWorkspace(ctx context.Context, q SnapshotWorkspaceRequestObject) (SnapshotWorkspaceResponseObject, error) {
	if _, err := s.find(ctx, q.Name); err != nil {
		return nil, err
	}
	w, err := s.o.Runner.Snapshot(ctx, account(ctx).ID, q.Name, value(q.Body.Note))
	v, err := s.after(ctx, w, err)
	return SnapshotWorkspace202JSONResponse(v), err
}

// ReturnWorkspace starts the run that makes a workspace again what it was in a snapshot.
func (s *Server) ReturnWorkspace(ctx context.Context, q ReturnWorkspaceRequestObject) (ReturnWorkspaceResponseObject, error) {
	if _, err := s.find(ctx, q.Name); err != nil {
		return nil, err
	}
	w, err := s.o.Runner.Return(ctx, account(ctx).ID, q.Name, q.Body.Snapshot)
	v, err := s.after(ctx, w, err)
	return ReturnWorkspace202JSONResponse(v), err
}

// MakeFromSnapshot starts the run that makes another workspace of a snapshot.
func (s *Server) MakeFromSnapshot(ctx context.Context, q MakeFromSnapshotRequestObject) (MakeFromSnapshotResponseObject, error) {
	w, err := s.o.Runner.FromSnapshot(ctx, account(ctx).ID, q.Id, value(q.Body.Name))
	v, err := s.after(ctx, w, err)
	return MakeFromSnapshot202JSONResponse(v), err
}

// HandSnapshot gives a snapshot to another account.
func (s *Server) HandSnapshot(ctx context.Context, q HandSnapshotRequestObject) (HandSnapshotResponseObject, error) {
	v, err := s.o.Store.Snapshot(ctx, q.Id)
	if errors.Is(err, records.ErrNotFound) || err == nil && (v.Account != account(ctx).ID || v.Kind != records.Personal) {
		return nil, fault.New("no-snapshot", "domicile snapshots lists yours", "You have no snapshot %d", q.Id)
	}
	if err != nil {
		return nil, err
	}
	if !v.Ready {
		return nil, fault.New("not-ready", "wait until it is kept: domicile follow "+v.Name, "The snapshot %d is not kept yet", q.Id)
	}
	to, err := s.colleague(ctx, q.Body.Account)
	if err != nil {
		return nil, err
	}
	return HandSnapshot204Response{}, s.o.Store.HandSnapshot(ctx, q.Id, to.ID)
}

// colleague finds an account that something is given to, or that is invited. Names that are not there are
// answered more and more slowly: who has an account is nobody's to find out by trying.
func (s *Server) colleague(ctx context.Context, name string) (records.Account, error) {
	who := fmt.Sprintf("account %d", account(ctx).ID)
	if wait := s.slow.Wait("colleague", who); wait > 0 {
		return records.Account{}, fault.New("slowed-down", fmt.Sprintf("ask the other person for the name of the account, and try again in %s", wait.Round(time.Second)+time.Second), "There were too many names that no account has")
	}
	to, err := s.o.Store.AccountByName(ctx, name)
	if err == nil && to.Locked {
		err = records.ErrNotFound // that, too, is nobody's to find out
	}
	s.slow.Ended("colleague", who, err == nil)
	if errors.Is(err, records.ErrNotFound) {
		err = fault.New("no-account", "ask the other person for the name of the account", "There is no account %.60q that can be used", name)
	}
	return to, err
}

// RemoveSnapshot removes a snapshot.
func (s *Server) RemoveSnapshot(ctx context.Context, q RemoveSnapshotRequestObject) (RemoveSnapshotResponseObject, error) {
	return RemoveSnapshot204Response{}, s.o.Runner.RemoveSnapshot(ctx, account(ctx).ID, q.Id)
}

// ListPrepared lists what the account has prepared.
func (s *Server) ListPrepared(ctx context.Context, _ ListPreparedRequestObject) (ListPreparedResponseObject, error) {
	list, err := s.o.Store.PreparedWorkspaces(ctx, account(ctx).ID)
	if err != nil {
		return nil, err
	}
	followed, err := s.o.Store.Followed(ctx)
	if err != nil {
		return nil, err
	}
	out := ListPrepared200JSONResponse{}
	for _, w := range list {
		v, err := s.preparedView(ctx, w, followed[w.ID])
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

func (s *Server) preparedView(ctx context.Context, w records.Workspace, follow bool) (Prepared, error) {
	v := Prepared{Name: w.Name, Source: w.Source, Ref: optional(w.Ref), File: optional(w.File), State: PreparedState(w.State), Reason: optional(w.Reason), Commit: optional(w.Commit), Follow: follow}
	if w.State == records.Stopped {
		v.State = "prepared"
	}
	snapshots, err := s.o.Store.SnapshotsOf(ctx, w.ID)
	if err != nil {
		return v, err
	}
	if len(snapshots) > 0 && snapshots[0].Ready {
		v.Bytes, v.Prepared, v.Used = snapshots[0].Bytes, &snapshots[0].Created, &snapshots[0].Used
	}
	if w.Keep > 0 {
		kept, err := s.o.Store.KeptOf(ctx, w.ID)
		if err != nil {
			return v, err
		}
		ready := 0
		for _, k := range kept {
			switch k.State {
			case records.Kept:
				ready++
			case records.Failed:
				v.Keeping = optional(k.Reason)
			}
		}
		v.Keep, v.Kept = &w.Keep, &ready
		here := s.o.Runner.SettingsAt(w.Site)
		if size, err := plan.ChooseSize(here.Sizes, w.Size, here.Size); err == nil { // of all together
			v.Price = priceView(plan.Price{Hour: size.Price.Hour * int64(w.Keep), Currency: size.Price.Currency})
		}
	}
	full, err := s.view(ctx, w)
	v.Run = full.Run
	return v, err
}

// PrepareSource starts the run that makes ready what provisioning of a source begins with.
func (s *Server) PrepareSource(ctx context.Context, q PrepareSourceRequestObject) (PrepareSourceResponseObject, error) {
	follow := value(q.Body.Follow)
	w, err := s.o.Runner.Prepare(ctx, run.Request{Account: account(ctx).ID, Source: q.Body.Source, Ref: value(q.Body.Ref), File: value(q.Body.File), Size: value(q.Body.Size), Site: value(q.Body.Site)}, follow, value(q.Body.Keep))
	if err == nil {
		w, err = s.o.Store.Workspace(ctx, w.ID)
	}
	if err != nil {
		return nil, err
	}
	v, err := s.preparedView(ctx, w, follow)
	return PrepareSource202JSONResponse(v), err
}

// RemovePrepared removes what was prepared.
func (s *Server) RemovePrepared(ctx context.Context, q RemovePreparedRequestObject) (RemovePreparedResponseObject, error) {
	return RemovePrepared204Response{}, s.o.Runner.RemovePrepared(ctx, account(ctx).ID, q.Name)
}

// ListHelpers lists the helpers of a workspace.
func (s *Server) ListHelpers(ctx context.Context, q ListHelpersRequestObject) (ListHelpersResponseObject, error) {
	w, err := s.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	list, err := s.o.Store.Helpers(ctx, w.ID)
	if err != nil {
		return nil, err
	}
	views, err := s.wholeViews(ctx, list)
	return ListHelpers200JSONResponse(views), err
}

// AddHelper starts the run that makes a helper beside a workspace.
func (s *Server) AddHelper(ctx context.Context, q AddHelperRequestObject) (AddHelperResponseObject, error) {
	if _, err := s.find(ctx, q.Name); err != nil {
		return nil, err
	}
	w, err := s.o.Runner.Helper(ctx, account(ctx).ID, q.Name, run.HelperRequest{Name: q.Body.Name, Image: value(q.Body.Image), File: value(q.Body.File), Share: value(q.Body.Share)})
	v, err := s.after(ctx, w, err)
	return AddHelper202JSONResponse(v), err
}
