package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/maphash"
	"time"

	"golang.org/x/sync/errgroup"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/compare"
	"domicile/internal/fault"
	"domicile/internal/mask"
	"domicile/internal/records"
)

const (
	// lookPatience is how long a look inside may take; compare.Script ends itself before that.
	lookPatience = 45 * time.Second
	// mostSeen bounds what a look inside is told, in bytes.
	mostSeen = 4 << 20
)

// Compared is what Compare tells.
type Compared struct {
	compare.Report
	A, B compare.Workspace
}

// Compare puts two workspaces side by side. One that does not run is compared by what it was
// made from.
func (r *Runner) Compare(ctx context.Context, a, b records.Workspace) (c Compared, err error) {
	if a.ID == b.ID {
		return c, fault.New("bad-request", "name two workspaces", "%s is compared with itself", a.Name)
	}
	hidden, err := r.hiddenOf(ctx, a, b)
	if err != nil {
		return c, err
	}
	seed := maphash.MakeSeed()
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		c.A, err = r.sideOf(ctx, a, hidden, seed)
		return err
	})
	group.Go(func() (err error) {
		c.B, err = r.sideOf(ctx, b, hidden, seed)
		return err
	})
	if err := group.Wait(); err != nil {
		return c, err
	}
	c.Report = compare.Sides(c.A, c.B)
	return c, nil
}

// hiddenOf is what must not be told of the workspaces: their owners' secrets.
func (r *Runner) hiddenOf(ctx context.Context, list ...records.Workspace) (*mask.Mask, error) {
	var hidden []string
	for _, w := range list {
		secrets, err := r.secretsOf(ctx, w)
		if err != nil {
			return nil, err
		}
		for _, value := range secrets {
			hidden = append(hidden, value)
		}
	}
	return mask.New(hidden...), nil
}

// sideOf is all that is known of a workspace.
func (r *Runner) sideOf(ctx context.Context, w records.Workspace, hidden *mask.Mask, seed maphash.Seed) (k compare.Workspace, err error) {
	p, err := planOf(w)
	if err != nil {
		return k, err
	}
	k = compare.Workspace{Name: w.Name, Facts: compare.Facts(p)}
	k.Facts[compare.Source] = map[string]string{"repository": w.Source, "branch or tag": w.Ref, "commit": w.Commit}
	k.Facts[compare.Site] = map[string]string{"name": w.Site}
	at, err := r.place(w.Site)
	if err == nil {
		k.Facts[compare.Site]["kind"] = string(at.Kind())
	}
	for _, facts := range k.Facts {
		for name, value := range facts {
			facts[name] = hidden.Line(value)
		}
	}
	var results []CheckResult
	if len(w.Checks) > 0 {
		if err := json.Unmarshal(w.Checks, &results); err != nil {
			return k, fmt.Errorf("read the checks of %s: %w", w.Name, err)
		}
	}
	for _, c := range results {
		k.Checks = append(k.Checks, compare.Result{Name: c.Name, OK: c.OK, Expected: c.Expected, Found: hidden.Line(c.Found), From: c.From})
	}
	if w.State != records.Ready {
		k.Unseen = "it is " + w.State
		return k, nil
	}
	k.Inside, k.Unseen, err = r.lookInside(ctx, w, hidden, seed)
	return k, err
}

// lookInside looks at what is in a running workspace. What it cannot tell is no error: unseen
// says why.
func (r *Runner) lookInside(ctx context.Context, w records.Workspace, hidden *mask.Mask, seed maphash.Seed) (in compare.Inside, unseen string, err error) {
	limited, cancel := context.WithTimeout(ctx, lookPatience)
	defer cancel()
	link, err := r.Reach(limited, w)
	if err != nil {
		return nil, "it does not answer: " + err.Error(), ctx.Err()
	}
	defer link.Quiet().Close()
	out := bounded{most: mostSeen}
	err = link.Task(limited, wire.TaskRequest{Key: fmt.Sprintf("look/%d", time.Now().UnixNano()), Shell: compare.Script}, &out)
	var exit *agentlink.ExitError
	if err != nil && !errors.As(err, &exit) && limited.Err() == nil {
		return nil, "it could not be looked at: " + err.Error(), nil
	}
	in, whole := compare.Read([]byte(hidden.Line(out.String())), seed)
	if !whole {
		unseen = "not all of it could be looked at: a program in it does not answer, or prints without end"
	}
	return in, unseen, ctx.Err()
}
