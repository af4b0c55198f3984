package main

import (
	"context"
	"flag"
	"fmt"

	"domicile/internal/client"
)

var logCommand = command{
	name: "log", args: "NAME [-run ID] [-step NAME] [-json]", summary: "Print the log of a workspace's last run, or of another one",
	example: "domicile log timetable -step postCreateCommand",
	takes:   []string{"NAME"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		id := f.Int64("run", 0, "the run's number (default: the last one)")
		step := f.String("step", "", "only this step")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			r, err := findRun(ctx, c, args[0], *id)
			if err != nil {
				return err
			}
			lines, _, err := newLines(ctx, c, r.Id, 0)
			if err != nil {
				return err
			}
			return printLog(t, r, lines, *step, *asJSON)
		}
	},
}

func findRun(ctx context.Context, c *client.Service, workspace string, id int64) (client.Run, error) {
	runs, err := client.Answer[[]client.Run](c.ListRuns(ctx, workspace))
	if err != nil {
		return client.Run{}, err
	}
	for _, r := range runs {
		if id == 0 || r.Id == id {
			return r, nil
		}
	}
	return client.Run{}, fmt.Errorf("the workspace %s has no run %d", workspace, id)
}

func printLog(t *terminal, r client.Run, lines []client.LogLine, step string, asJSON bool) error {
	kept := lines[:0:0]
	names := map[int]string{}
	known := step == ""
	for _, s := range r.Steps {
		names[s.Position] = s.Name
		known = known || s.Name == step
	}
	if !known {
		return fmt.Errorf("run %d has no step %q", r.Id, step)
	}
	for _, l := range lines {
		if step == "" || names[l.Step] == step {
			kept = append(kept, l)
		}
	}
	if asJSON {
		return printJSON(t.out, struct {
			Run   client.Run       `json:"run"`
			Lines []client.LogLine `json:"lines"`
		}{r, kept})
	}
	fmt.Fprintf(t.out, "run %d: %s, %s\n", r.Id, r.Kind, r.State)
	for _, s := range r.Steps {
		if step != "" && s.Name != step || s.State == client.StepStateWaiting {
			continue
		}
		fmt.Fprintf(t.out, "%s: %s %s\n", s.Title, s.State, took(s))
		for _, l := range kept {
			if l.Step == s.Position {
				fmt.Fprintf(t.out, "  %s  %s\n", l.At.Local().Format("15:04:05"), l.Text)
			}
		}
		if s.Reason != nil {
			fmt.Fprintf(t.out, "  %s\n", *s.Reason)
		}
	}
	return nil
}
