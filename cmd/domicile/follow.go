package main

import (
	"context"
	"errors"
	"fmt"
	"time"

	"domicile/internal/client"
	"domicile/internal/fault"
)

// view shows a run as it goes.
type view interface {
	update(r client.Run, lines []client.LogLine)
	// end shows what stays on the screen.
	end(r client.Run)
}

// Polling is the net under the events: what they miss is seen this much later.
const (
	lookEvery   = time.Second
	redrawEvery = 200 * time.Millisecond
)

// follow shows a run until its end. Leaving with Ctrl-C does not stop the run. An error is
// returned when the run failed.
func follow(ctx context.Context, t *terminal, c *client.Service, workspace string, last client.Run, quiet bool) error {
	changed := make(chan struct{}, 1)
	listening, stop := context.WithCancel(ctx)
	defer stop()
	go hearEvents(listening, c, workspace, changed)
	var v view = &plainView{out: t.err}
	if f, isTerminal := fileOf(t.err); isTerminal && !quiet {
		v = newLiveView(f)
	}
	if quiet {
		v = silentView{}
	}
	var lines []client.LogLine
	var after int64
	for tick := time.NewTicker(redrawEvery); ; {
		r, err := client.Answer[client.Run](c.GetRun(ctx, last.Id))
		if err == nil {
			last = r
			lines, after, err = newLines(ctx, c, last.Id, after)
		}
		switch {
		case fault.Code(err) == "not-found" && last.Kind == client.RunKindRemove:
			last.State = client.RunStateDone // its record went with the workspace
		case err != nil && !fault.IsTransient(err):
			return left(ctx, t, workspace, err)
		}
		r = last
		v.update(r, lines)
		if r.State == client.RunStateDone || r.State == client.RunStateFailed {
			v.end(r)
			tick.Stop()
			return outcome(r)
		}
		if !wait(ctx, changed, tick.C, func() { v.update(last, nil) }) {
			return left(ctx, t, workspace, ctx.Err())
		}
	}
}

// wait waits for a change or for the next look, and lets the view redraw meanwhile.
func wait(ctx context.Context, changed <-chan struct{}, tick <-chan time.Time, redraw func()) bool {
	next := time.NewTimer(lookEvery)
	defer next.Stop()
	for {
		select {
		case <-ctx.Done():
			return false
		case <-changed:
			return true
		case <-next.C:
			return true
		case <-tick:
			redraw()
		}
	}
}

func hearEvents(ctx context.Context, c *client.Service, workspace string, changed chan<- struct{}) {
	for ctx.Err() == nil {
		_ = c.Events(ctx, false, func(e client.Event) { // while it is broken, looking once a second goes on
			if e.Workspace == workspace || e.Type == "look" {
				select {
				case changed <- struct{}{}:
				default:
				}
			}
		})
		select {
		case <-ctx.Done():
		case <-time.After(lookEvery):
		}
	}
}

// newLines reads the lines that came since the last look.
func newLines(ctx context.Context, c *client.Service, run, after int64) (all []client.LogLine, last int64, err error) {
	for {
		log, err := client.Answer[client.Log](c.GetLog(ctx, run, &client.GetLogParams{After: &after}))
		if err != nil || len(log.Lines) == 0 {
			return all, after, err
		}
		all = append(all, log.Lines...)
		after = log.Lines[len(log.Lines)-1].Number
	}
}

// left says how to come back, when it was the person who left.
func left(ctx context.Context, t *terminal, workspace string, err error) error {
	if ctx.Err() == nil {
		return err
	}
	fmt.Fprintf(t.err, "\nThe run goes on without you. To come back: domicile follow %s\n", workspace)
	return exitStatus(130)
}

func outcome(r client.Run) error {
	if r.State == client.RunStateDone {
		return nil
	}
	reason := "the run failed"
	if r.Reason != nil {
		reason = *r.Reason
	}
	return errors.New(reason)
}
