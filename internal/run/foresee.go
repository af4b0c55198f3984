package run

import (
	"context"
	"path"
	"slices"
	"strings"

	"domicile/internal/plan"
	"domicile/internal/records"
)

// Foreseen is what a rebuild would do, and what would be lost by it.
type Foreseen struct {
	Steps    []string // titles of those that would be done again; none: nothing changed
	Replaces bool     // it is made anew
	Keeps    bool     // the earlier one is kept until the new one works
	Lost     []string // what is nowhere else, in words
	Stays    []string // what is kept
}

// notLost are folders whose files nobody would miss.
var notLost = []string{"/tmp", "/var/tmp", "/run", "/var/run", "/proc", "/sys", "/dev", "/var/cache", "/var/log", "/opt/domicile"}

// Foresee tells what a rebuild of a workspace would do, without doing it; with pull one that
// brings new commits, too.
func (r *Runner) Foresee(ctx context.Context, w records.Workspace, pull bool) (f Foreseen, err error) {
	if err := ownOnly(w); err != nil {
		return f, err
	}
	old, err := planOf(w)
	if err != nil {
		return f, err
	}
	n, err := r.planNow(ctx, w, pull)
	if err != nil {
		return f, err
	}
	if n.plan == nil {
		return f, n.why
	}
	for _, s := range changed(old, n.plan) {
		if s.Name == plan.StepSource {
			s.Title = "Bring new commits into the source"
		}
		f.Steps = append(f.Steps, s.Title)
	}
	at, err := r.place(w.Site)
	if err != nil {
		return f, err
	}
	there, found, err := at.Find(ctx, w.SiteID())
	if err != nil {
		return f, err
	}
	f.Replaces = !found || there.Digest != n.plan.Container.Digest
	if !f.Replaces {
		f.Stays = []string{"all files in it"}
		return f, nil
	}
	f.Stays = []string{"the source with what was changed in it", "volumes"}
	if f.Keeps = at.can.Aside != nil; f.Keeps {
		f.Stays = append(f.Stays, "what shells remember of what was typed")
	}
	if !found {
		return f, nil
	}
	var added []string
	if at.can.Differ == nil {
		f.Lost = append(f.Lost, "what was written outside the source and the volumes")
	} else if added, err = at.can.Differ.Added(ctx, w.SiteID()); err != nil {
		return f, err
	}
	for _, folder := range foldersOf(added) {
		f.Lost = append(f.Lost, "files in "+folder)
	}
	if link, err := r.Reach(ctx, w); err == nil {
		defer link.Close()
		terminals, err := link.Quiet().Terminals(ctx)
		if err != nil {
			return f, err
		}
		for _, t := range terminals {
			f.Lost = append(f.Lost, "the terminal "+t.Name+", in which "+t.Command+" runs")
		}
	}
	return f, nil
}

// maxFolders is how many folders are named.
const maxFolders = 12

// foldersOf gives the folders in which files were added, two levels deep below a home
// folder, one elsewhere.
func foldersOf(added []string) (list []string) {
	for _, p := range added {
		if slices.ContainsFunc(notLost, func(n string) bool { return p == n || strings.HasPrefix(p, n+"/") }) {
			continue
		}
		parts := strings.Split(strings.TrimPrefix(path.Dir(p), "/"), "/")
		folder := "/" + strings.Join(parts[:min(len(parts), 2)], "/")
		if !slices.Contains(list, folder) {
			list = append(list, folder)
		}
	}
	if len(list) > maxFolders {
		list = append(list[:maxFolders], "and elsewhere")
	}
	return list
}
