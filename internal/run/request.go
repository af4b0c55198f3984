package run

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/source"
)

// Request is what a person asks for.
type Request struct {
	Account int64
	Source  string
	Ref     string
	Name    string // empty: the repository's name
	File    string // the definition, where there are several
	Site    string // empty: the plan chooses
	Size    string // empty: the definition's, or the service's
	Mount   bool   // a folder of the host is mounted in place, not copied
	// Variations are set in the definition in place of what its file says.
	Variations []definition.Variation
}

var (
	nameForm = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)
	notName  = regexp.MustCompile(`[^a-z0-9]+`)
)

const maxName = 40

// CheckName refuses what cannot be the name of a workspace, a snapshot or a site: a
// workspace's is a host name, and the user's name of an SSH address.
func CheckName(name string) error {
	if len(name) > maxName || !nameForm.MatchString(name) {
		return fault.New("bad-name", fmt.Sprintf("use lower-case letters, digits and single hyphens, a letter first, at most %d characters", maxName),
			"%q cannot be a name here", name)
	}
	return nil
}

// suggestName makes a name from the repository's.
func suggestName(a source.Address) string {
	name := strings.Trim(notName.ReplaceAllString(strings.ToLower(a.Name()), "-"), "-")
	if len(name) > maxName {
		name = strings.Trim(name[:maxName], "-")
	}
	return name
}

// Provision makes the record of a workspace and the run that makes it, or, where the
// workspace failed, a run that goes on from there.
func (r *Runner) Provision(ctx context.Context, q Request) (records.Workspace, error) {
	address, err := source.Parse(q.Source)
	if err != nil {
		return records.Workspace{}, err
	}
	if err := source.CheckRef(q.Ref); err != nil {
		return records.Workspace{}, err
	}
	if q.Name == "" {
		q.Name = suggestName(address)
	}
	if err := CheckName(q.Name); err != nil {
		return records.Workspace{}, err
	}
	if q.Site, err = r.siteFor(q.Site); err != nil {
		return records.Workspace{}, err
	}
	if err := r.mayMount(q, address); err != nil {
		return records.Workspace{}, err
	}
	if err := r.hasSize(q); err != nil {
		return records.Workspace{}, err
	}
	variations, err := encodeVariations(q.Variations)
	if err != nil {
		return records.Workspace{}, err
	}
	kept := r.keptFor(ctx, q, address, variations)
	var w records.Workspace
	err = r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		var err error
		if len(kept) > 0 {
			if w, err = r.takeKept(ctx, db, tx, kept, q); err == nil || !errors.Is(err, records.ErrNotFound) && !errors.Is(err, records.ErrTaken) {
				return err
			}
		}
		w, err = db.AddWorkspace(ctx, records.Workspace{Account: q.Account, Name: q.Name, Source: address.String(), Ref: q.Ref, File: q.File,
			Site: q.Site, State: records.Waiting, Wanted: records.WantRunning, Size: q.Size, Mount: q.Mount, Variations: variations})
		if errors.Is(err, records.ErrTaken) {
			w, err = r.goOn(ctx, db, q, address, variations)
		}
		if err != nil {
			return err
		}
		return r.enqueue(ctx, db, tx, w, records.KindProvision, plan.First(w.Source, w.Ref))
	})
	return w, busy(err, q.Name)
}

// mayMount refuses to mount what is no folder, or where policy does not allow it.
func (r *Runner) mayMount(q Request, a source.Address) error {
	switch {
	case !q.Mount:
		return nil
	case a.Folder == "":
		return fault.New("bad-source", "leave -mount out, or give a folder of the service's host", "%s is no folder of the service's host, and cannot be mounted", a)
	case !slices.ContainsFunc(r.askedOf(q.Site), func(site string) bool { return slices.Contains(r.SettingsAt(site).Allow, judge.AllowHostMounts) }):
		return mountNotAllowed(a.String())
	}
	return nil
}

func mountNotAllowed(folder string) error {
	return fault.New("not-allowed-here", "leave -mount out, or ask an administrator to allow host-mounts (domicile serve -allow host-mounts)", "mounting the folder %s in place is not allowed here", folder)
}

// askedOf are the sites that may come to hold what is asked for.
func (r *Runner) askedOf(site string) (names []string) {
	if site != "" {
		return []string{site}
	}
	for _, at := range r.open() {
		names = append(names, at.name)
	}
	return names
}

// hasSize refuses a size that no site has which may come to hold the workspace.
func (r *Runner) hasSize(q Request) (err error) {
	for _, site := range r.askedOf(q.Site) {
		if _, err = plan.ChooseSize(r.SettingsAt(site).Sizes, q.Size); err == nil {
			return nil
		}
	}
	return err
}

// goOn finds the workspace of that name and tells whether a provision may go on with it.
func (r *Runner) goOn(ctx context.Context, db records.Queries, q Request, a source.Address, variations json.RawMessage) (records.Workspace, error) {
	w, err := db.LockWorkspace(ctx, q.Account, q.Name)
	if err != nil {
		return w, err
	}
	if w.Source != a.String() {
		return w, fault.New("name-taken", "choose another with -name, or remove the other one: domicile remove "+q.Name,
			"you have a workspace %s already, made from %s", q.Name, w.Source)
	}
	switch w.State {
	case records.Failed, records.Lost:
	case records.Stopped:
		return w, fault.New("name-taken", "start it: domicile start "+q.Name, "you have the workspace %s already; it is stopped", q.Name)
	case records.Ready:
		return w, fault.New("name-taken", "use it: domicile shell "+q.Name+"; or choose another name with -name", "you have the workspace %s already; it is ready", q.Name)
	default:
		return w, records.ErrBusy
	}
	if q.Site != w.Site {
		if w.Planned > 0 && w.Site != "" && len(r.places.all()) > 1 {
			if q.Site != "" {
				return w, fault.New("another-site", "leave -site out, or remove the workspace first: domicile remove "+q.Name, "the workspace %s is at the site %s", q.Name, w.Site)
			}
		} else if err := db.SetSite(ctx, w.ID, q.Site); err != nil {
			return w, err
		}
	}
	w.Ref, w.File, w.Size, w.Variations = q.Ref, q.File, q.Size, variations
	if err := db.SetSource(ctx, w.ID, q.Ref, q.File, q.Size, variations); err != nil {
		return w, err
	}
	return w, db.SetWanted(ctx, w.ID, records.WantRunning)
}

// Start makes the run that starts a stopped workspace.
func (r *Runner) Start(ctx context.Context, account int64, name string) (records.Workspace, error) {
	if w, err := r.o.Store.WorkspaceByName(ctx, account, name); err == nil && w.Kind == records.IsHelper && w.State == records.Failed {
		return r.makeHelperAgain(ctx, account, name)
	}
	return r.request(ctx, account, name, records.KindStart, records.WantRunning, func(db records.Queries, w records.Workspace) ([]plan.Step, error) {
		if w.State == records.Ready {
			return nil, fault.New("running-already", "", "the workspace %s is running already", name)
		}
		if w.Parent != nil {
			parent, err := db.Workspace(ctx, *w.Parent)
			if err != nil {
				return nil, err
			}
			if parent.State != records.Ready {
				return nil, fault.New("not-ready", "start that: domicile start "+parent.Name, "the workspace %s is not running, and its helpers run beside it", parent.Name)
			}
		}
		if err := r.mayRun(ctx, db, w.Site, w.ID); err != nil {
			return nil, err
		}
		p, err := planOf(w)
		if err != nil {
			return nil, err
		}
		return p.Start(), nil
	})
}

// Stop makes the run that stops a workspace.
func (r *Runner) Stop(ctx context.Context, account int64, name string) (records.Workspace, error) {
	return r.request(ctx, account, name, records.KindStop, records.WantStopped, func(_ records.Queries, w records.Workspace) ([]plan.Step, error) {
		if w.State == records.Stopped {
			return nil, fault.New("stopped-already", "", "the workspace %s is stopped already", name)
		}
		return plan.Stop(), nil
	})
}

// Remove makes the run that removes a workspace and all that was made for it. A run that
// is under way is ended first.
func (r *Runner) Remove(ctx context.Context, account int64, name string) (records.Workspace, error) {
	return r.request(ctx, account, name, records.KindRemove, records.WantRemoved, func(records.Queries, records.Workspace) ([]plan.Step, error) { return plan.Remove(), nil })
}

func (r *Runner) request(ctx context.Context, account int64, name, kind, wanted string, steps func(records.Queries, records.Workspace) ([]plan.Step, error)) (records.Workspace, error) {
	var w records.Workspace
	err := r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		var err error
		if w, err = db.LockWorkspace(ctx, account, name); err != nil {
			return err
		}
		if w.Hidden() && kind != records.KindRemove {
			return records.ErrNotFound
		}
		list, err := steps(db, w)
		if err != nil {
			return err
		}
		if kindOf(kind).interrupts {
			helpers, err := db.Helpers(ctx, w.ID)
			if err != nil {
				return err
			}
			for _, one := range append(helpers, w) {
				if err := db.CancelRuns(ctx, one, "ended by "+kind); err != nil {
					return err
				}
			}
		}
		if err := db.SetWanted(ctx, w.ID, wanted); err != nil {
			return err
		}
		return r.enqueue(ctx, db, tx, w, kind, list)
	})
	return w, busy(err, name)
}

// enqueue writes the run, its steps and the queue's job in one transaction.
func (r *Runner) enqueue(ctx context.Context, db records.Queries, tx pgx.Tx, w records.Workspace, kind string, steps []plan.Step) error {
	return r.enqueueFor(ctx, db, tx, w, kind, "", steps)
}

// enqueueFor says why the run is made, where no person asked for it.
func (r *Runner) enqueueFor(ctx context.Context, db records.Queries, tx pgx.Tx, w records.Workspace, kind, note string, steps []plan.Step) error {
	now := time.Now()
	run, err := db.AddRun(ctx, w.ID, kind, note)
	if err != nil {
		return err
	}
	r.noticed.Add(run.ID, now)
	if err := db.AddSteps(ctx, run.ID, w.Source, stepsFrom(0, steps)); err != nil {
		return err
	}
	if k := kindOf(kind); k.begins != "" || k.plans { // a rebuild forgets why the last one failed
		if err := db.SetWorkspaceState(ctx, w, cmp.Or(k.begins, w.State), ""); err != nil {
			return err
		}
	}
	_, err = r.queue.InsertTx(ctx, tx, jobArgs{Run: run.ID}, nil)
	return records.FromDatabase(err)
}

// stepsFrom makes records of planned steps, the first one at a position.
func stepsFrom(position int, planned []plan.Step) (list []records.Step) {
	for i, s := range planned {
		list = append(list, records.Step{Position: position + i, Name: s.Name, Title: s.Title, Digest: s.Digest})
	}
	return list
}

// maxNoticed bounds how many runs it is remembered of when they were asked for.
const maxNoticed = 10000

// askedAt tells when a run was asked for, by this process's clock; the zero time where another
// process was asked.
func (r *Runner) askedAt(run int64) time.Time {
	at, _ := r.noticed.Get(run)
	return at
}

func busy(err error, name string) error {
	if errors.Is(err, records.ErrBusy) {
		return fault.New("busy", "watch it: domicile follow "+name, "a run of the workspace %s is under way", name)
	}
	return err
}
