package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/source"
)

// keepStep leaves a workspace for somebody who comes.
var keepStep = plain(func(c *execution, ctx context.Context, _ string) error { return c.setState(ctx, records.Kept, "") })

// takeStep makes a workspace that was kept warm the account's own: whose commits are made there.
var takeStep = plain(func(c *execution, ctx context.Context, id string) error {
	link, err := c.joined(ctx, id)
	if err != nil {
		return err
	}
	return c.author(ctx, link)
})

const (
	// keepEvery is how often it is looked after what is kept warm.
	keepEvery = 2 * time.Second
	// keptOld is how old one becomes that is kept warm: then another is made in its place.
	keptOld = 24 * time.Hour
	// keptAgain is how long one stays that could not be made, before it is tried again.
	keptAgain = 2 * time.Minute
)

// keepWarm sees to it, until ctx ends, that as many workspaces are kept warm as are to be.
func (r *Runner) keepWarm(ctx context.Context) {
	tips := map[int64]tip{}
	for ctx.Err() == nil {
		pause(ctx, keepEvery)
		if err := r.keepAll(ctx, tips); err != nil && ctx.Err() == nil && !records.Unavailable(err) {
			r.o.Log.Warn("look after what is kept warm", "error", err)
		}
	}
}

// tip is what a branch was at a moment.
type tip struct {
	commit string
	at     time.Time
}

func (r *Runner) keepAll(ctx context.Context, tips map[int64]tip) error {
	orphans, err := r.o.Store.Orphans(ctx)
	if err != nil {
		return err
	}
	for _, k := range orphans {
		r.removeKept(ctx, k)
	}
	list, err := r.o.Store.PreparedWorkspaces(ctx, 0)
	if err != nil {
		return err
	}
	maps.DeleteFunc(tips, func(id int64, _ tip) bool {
		return !slices.ContainsFunc(list, func(w records.Workspace) bool { return w.ID == id })
	})
	for _, w := range list {
		if w.State != records.Stopped { // it is being prepared, or could not be
			continue
		}
		if err := r.keepOf(ctx, w, tips); err != nil && ctx.Err() == nil {
			r.o.Log.Info("keep workspaces warm", "name", w.Name, "error", err)
		}
	}
	return nil
}

// keepOf looks after the workspaces that are kept warm of one prepared source.
func (r *Runner) keepOf(ctx context.Context, w records.Workspace, tips map[int64]tip) error {
	kept, err := r.o.Store.KeptOf(ctx, w.ID)
	if err != nil || w.Keep == 0 && len(kept) == 0 {
		return err
	}
	commit, err := r.keptCommit(ctx, w, tips)
	if err != nil {
		return err
	}
	at, err := r.place(w.Site)
	if err != nil {
		return err
	}
	good, wanted := 0, w.Keep
	if at.drained { // it is to be emptied
		wanted = 0
	}
	if most := r.SettingsAt(w.Site).Most; most > 0 { // people come first
		running, err := r.o.Store.RunningAt(ctx, w.Site, 0)
		if err != nil {
			return err
		}
		wanted = min(wanted, max(0, most-running))
	}
	for _, k := range kept {
		switch {
		case k.Wanted == records.WantRemoved: // it is on its way
		case good < wanted && r.stays(ctx, k, commit):
			good++
		default:
			r.removeKept(ctx, k)
		}
	}
	for n := len(kept); good < wanted; good, n = good+1, n+1 {
		if room, err := r.roomToKeep(ctx, w, good); err != nil || !room {
			return err
		}
		if err := r.addKept(ctx, w, n); err != nil {
			return err
		}
	}
	return nil
}

// keptCommit is the commit that is kept warm: that which was prepared; where the site keeps no
// snapshots, that of the branch as it was a moment ago.
func (r *Runner) keptCommit(ctx context.Context, w records.Workspace, tips map[int64]tip) (string, error) {
	list, err := r.o.Store.SnapshotsOf(ctx, w.ID)
	if err != nil {
		return "", err
	}
	if len(list) > 0 && list[0].Ready && list[0].Site == w.Site {
		return list[0].Commit, nil
	}
	if t := tips[w.ID]; time.Since(t.at) < r.o.LookEvery {
		return t.commit, nil
	}
	commit, err := r.tip(ctx, w.Account, w.Source, w.Ref)
	if err == nil {
		tips[w.ID] = tip{commit, time.Now()}
	}
	return commit, err
}

// tip is the commit of a branch now.
func (r *Runner) tip(ctx context.Context, account int64, from, ref string) (string, error) {
	address, err := source.Parse(from)
	if err != nil {
		return "", err
	}
	login, err := r.o.Vault.Login(ctx, account, address.Host())
	if err != nil {
		return "", err
	}
	return r.o.Source.Tip(ctx, source.Want{Address: address, Ref: ref, Login: login})
}

// stays tells whether a workspace that is kept warm is as it should be, or about to be.
func (r *Runner) stays(ctx context.Context, k records.Workspace, commit string) bool {
	switch k.State {
	case records.Waiting, records.Making:
		return true
	case records.Failed:
		return time.Since(k.Created) < keptAgain
	case records.Kept:
	default:
		return false
	}
	if k.Commit != commit || time.Since(k.Created) > keptOld {
		return false
	}
	at, err := r.place(k.Site)
	if err != nil {
		return false
	}
	i, found, err := at.Find(ctx, k.SiteID())
	return err != nil || found && i.Running // of a site that does not answer nothing is known
}

// roomToKeep tells whether the site has the memory for one more, beside what is promised there.
func (r *Runner) roomToKeep(ctx context.Context, w records.Workspace, kept int) (bool, error) {
	here, found := r.SettingsAt(w.Site), r.Examined(w.Site)
	size, err := plan.ChooseSize(here.Sizes, w.Size, here.Size)
	if err != nil || size.Memory == 0 || len(found.Sizes) > 0 { // a provider says itself when it is full
		return err == nil, err
	}
	promised, _, err := r.Promised(ctx, w.Site)
	return promised+int64(kept+1)*size.Memory <= found.MemoryBytes, err
}

// addKept makes one more. Its name is no person's; of two replicas that choose the same, one does.
func (r *Runner) addKept(ctx context.Context, w records.Workspace, number int) error {
	return r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		now, err := db.LockWorkspace(ctx, w.Account, w.Name)
		if err != nil || now.Keep == 0 {
			return err
		}
		list, err := db.KeptOf(ctx, w.ID)
		if err != nil || len(list) != number { // somebody else was faster
			return err
		}
		k, err := db.AddKept(ctx, w, fmt.Sprintf("%s+%d", w.Name, time.Now().UnixNano()), w.Site)
		if err != nil {
			return err
		}
		return r.enqueueFor(ctx, db, tx, k, records.KindKeep, "it is kept warm for whoever comes", plan.First(k.Source, k.Ref))
	})
}

// removeKept removes one. Where that does not go now, it is tried again.
func (r *Runner) removeKept(ctx context.Context, k records.Workspace) {
	_, err := r.request(ctx, k.Account, k.Name, records.KindRemove, records.WantRemoved, func(records.Queries, records.Workspace) ([]plan.Step, error) { return plan.Remove(), nil })
	if err != nil && ctx.Err() == nil {
		r.o.Log.Info("remove a workspace that was kept warm", "name", k.Name, "error", err)
	}
}

// dropKept removes all that are kept warm of what is prepared.
func (r *Runner) dropKept(ctx context.Context, w records.Workspace) error {
	if err := r.o.Store.SetKeep(ctx, w.ID, 0); err != nil {
		return err
	}
	list, err := r.o.Store.KeptOf(ctx, w.ID)
	for _, k := range list {
		r.removeKept(ctx, k)
	}
	return err
}

// keptFor finds the workspaces that are kept warm for what is asked for: of the commit that the
// branch has now. What is not known costs the time that it takes without them, and no more.
func (r *Runner) keptFor(ctx context.Context, q Request, address source.Address, variations json.RawMessage) (fit []records.Workspace) {
	if address.Git == "" || q.Mount {
		return nil
	}
	list, err := r.o.Store.KeptFor(ctx, address.String(), q.Ref, q.File, q.Size, q.Site, variations)
	if err != nil || len(list) == 0 {
		return nil
	}
	commit, err := r.tip(ctx, q.Account, address.String(), q.Ref)
	if err != nil {
		return nil
	}
	for _, k := range list {
		if at, err := r.place(k.Site); err == nil && !at.drained && k.Commit == commit && (k.Account == q.Account || r.anybodys(ctx, k)) {
			fit = append(fit, k)
		}
	}
	return fit
}

// anybodys tells that there is nothing of the account that keeps it in a workspace that is kept
// warm: nobody signed in for it, nothing was built with secrets or caches, and it has no volumes
// beside its source.
func (r *Runner) anybodys(ctx context.Context, k records.Workspace) bool {
	address, err := source.Parse(k.Source)
	if err != nil {
		return false
	}
	login, err := r.o.Vault.Login(ctx, k.Account, address.Host())
	if err != nil || login != nil {
		return false
	}
	p, err := planOf(k)
	return err == nil && (p.Recipe == nil || p.Recipe.Account == 0) && len(p.Container.Mounts) == 0 && len(p.Services) == 0
}

// takeKept makes one of them the account's, with the run that does what belongs to a person;
// records.ErrNotFound: others were faster.
func (r *Runner) takeKept(ctx context.Context, db records.Queries, tx pgx.Tx, fit []records.Workspace, q Request) (w records.Workspace, err error) {
	account, err := db.AccountByID(ctx, q.Account)
	if err != nil {
		return w, err
	}
	err = records.ErrNotFound
	for _, k := range fit {
		if full := r.mayRun(ctx, db, k.Site, k.ID); full != nil {
			if fault.Code(full) != "no-room" {
				return w, full
			}
			continue // another site may have room
		}
		if w, err = db.TakeKept(ctx, k.ID, q.Account, q.Name); !errors.Is(err, records.ErrNotFound) {
			break
		}
	}
	if err != nil {
		return w, err
	}
	if account.Personal != "" { // what is the account's own is part of the plan
		return w, r.enqueue(ctx, db, tx, w, records.KindProvision, plan.First(w.Source, w.Ref))
	}
	p, err := planOf(w)
	if err != nil {
		return w, err
	}
	return w, r.enqueueFor(ctx, db, tx, w, records.KindTake, "it was kept warm", p.Take())
}
