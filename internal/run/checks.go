package run

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// checksStep proves what the definition says must hold.
var checksStep = plain((*execution).checks)

// CheckResult is the proof of one check.
type CheckResult struct {
	Name     string    `json:"name"`
	OK       bool      `json:"ok"`
	Expected string    `json:"expected"`
	Found    string    `json:"found"`
	From     string    `json:"from,omitempty"` // what should have brought it
	At       time.Time `json:"at"`
}

// checkPatience is how long one check has.
const checkPatience = 2 * time.Minute

// checks proves what the definition says must hold. A check that fails leaves the
// workspace ready, with a clear mark.
func (c *execution) checks(ctx context.Context, id string) error {
	link, err := c.joined(ctx, id)
	if err != nil {
		return err
	}
	results, err := prove(ctx, link, c.out.plan, c.log.say)
	if err != nil {
		return err
	}
	return c.write(ctx, func(db records.Queries) error { return db.SetChecks(ctx, c.workspace, results) })
}

// prove runs the checks one after the other.
func prove(ctx context.Context, link *agentlink.Link, p *plan.Plan, say func(string)) (json.RawMessage, error) {
	results := []CheckResult{}
	for _, check := range p.Domicile.Checks {
		r, err := proveOne(ctx, link, check)
		if err != nil {
			return nil, err
		}
		word := "holds"
		if !r.OK {
			word = "does not hold"
		}
		say(fmt.Sprintf("%s %s: expected %s, found %s", r.Name, word, r.Expected, r.Found))
		results = append(results, r)
	}
	return json.Marshal(results)
}

func proveOne(ctx context.Context, link *agentlink.Link, check definition.Check) (CheckResult, error) {
	r := CheckResult{Name: check.Name, From: check.From, At: time.Now().UTC()}
	parts, err := definition.Command{Command: check.Command}.Parts()
	if err != nil || len(parts) != 1 {
		return r, fmt.Errorf("read the check %s: %w", check.Name, err)
	}
	limited, cancel := context.WithTimeout(ctx, checkPatience)
	defer cancel()
	var out bounded
	err = link.Task(limited, wire.TaskRequest{Key: fmt.Sprintf("check/%s/%d", check.Name, r.At.UnixNano()), Shell: parts[0].Shell, Args: parts[0].Args}, &out)
	status := 0
	var exit *agentlink.ExitError
	switch {
	case errors.As(err, &exit):
		status = exit.Status
	case limited.Err() != nil && ctx.Err() == nil:
		r.Expected, r.Found = "an end", "no end within "+checkPatience.String()
		return r, nil
	case err != nil && fault.Code(err) == "agent-refused":
		r.Expected, r.Found = "a command that can be run", err.Error()
		return r, nil
	case err != nil:
		return r, err
	}
	r.OK, r.Expected, r.Found = check.Holds(out.String(), status)
	if !r.OK && out.Len() > 0 && status != 0 {
		r.Found += ": " + lastLine(out.String())
	}
	return r, nil
}

func lastLine(s string) string {
	lines := bytes.Split(bytes.TrimSpace([]byte(s)), []byte("\n"))
	return string(lines[len(lines)-1])
}

// bounded keeps the beginning of what is written.
type bounded struct {
	bytes.Buffer
	most int // bytes; 0: 64 kB
}

func (b *bounded) Write(p []byte) (int, error) {
	if room := cmp.Or(b.most, 64<<10) - b.Len(); room > 0 {
		b.Buffer.Write(p[:min(len(p), room)])
	}
	return len(p), nil
}

// Check proves the checks of a ready workspace now.
func (r *Runner) Check(ctx context.Context, w records.Workspace) (json.RawMessage, error) {
	p, err := planOf(w)
	if err != nil {
		return nil, err
	}
	if w.State != records.Ready {
		return nil, fault.New("not-ready", "domicile start "+w.Name, "the workspace %s is not running", w.Name)
	}
	if p.Domicile == nil || len(p.Domicile.Checks) == 0 {
		return json.RawMessage("[]"), nil
	}
	at, err := r.place(w.Site)
	if err != nil {
		return nil, err
	}
	stream, err := at.Connect(ctx, w.SiteID())
	if err != nil {
		return nil, err
	}
	link, err := agentlink.Open(ctx, stream, r.o.Keys.Service())
	if err != nil {
		return nil, err
	}
	defer link.Quiet().Close()
	results, err := prove(ctx, link, p, func(string) {})
	if err != nil {
		return nil, err
	}
	return results, r.o.Store.SetChecks(ctx, w, results)
}
