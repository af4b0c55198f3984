package main

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"time"

	"domicile/internal/client"
	"domicile/internal/fault"
)

var planCommand = command{
	name: "plan", args: "SOURCE [-ref REF] [-file PATH] [-site SITE] [-size SIZE] [-vary KEY=VALUE] [-json]", summary: "Show what making a workspace would do, without doing it",
	example: "domicile plan http://127.0.0.1:4390/skerry/fares.git",
	takes:   []string{"SOURCE"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		ref := f.String("ref", "", "branch, tag or commit")
		file := f.String("file", "", "the definition, where there are several")
		at := f.String("site", "", "the site (default: the plan chooses)")
		size := f.String("size", "", "a size of the site")
		vary := varyFlag(f, "vary", "set a property of the definition to another value: `KEY=VALUE`, as for provision; again for each")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			answer, err := client.Answer[client.PlanAnswer](c.PlanSource(ctx, client.CheckRequest{Source: args[0], Ref: given(*ref), File: given(*file), Site: given(*at), Size: given(*size), Vary: vary.given()}))
			if err := present(t, *asJSON, answer, err, func(answer client.PlanAnswer) { printPlan(t, answer) }); err != nil {
				return err
			}
			if answer.Refused != nil {
				return exitStatus(1)
			}
			return nil
		}
	},
}

func printPlan(t *terminal, answer client.PlanAnswer) {
	if answer.Refused != nil {
		fmt.Fprintln(t.out, "Nothing would be made: the definition asks for what it does not get here.")
		for _, r := range *answer.Refused {
			fmt.Fprintf(t.out, "  %s\n", r.Says)
			if r.Remedy != nil {
				fmt.Fprintln(t.out, "      "+fault.ToDo(*r.Remedy))
			}
		}
		return
	}
	var total time.Duration
	unknown := false
	table := newTable(t.out)
	for i, s := range answer.Steps {
		took := "not known yet"
		switch {
		case s.There != nil && *s.There:
			took = "there already"
		case s.Millis != nil:
			d := time.Duration(*s.Millis) * time.Millisecond
			total += d
			took = "about " + seconds(d)
		default:
			unknown = true
		}
		table.row(fmt.Sprintf("%2d", i+1), s.Title, took)
		if s.Detail != nil {
			for _, line := range *s.Detail {
				table.row("", "   "+line, "")
			}
		}
	}
	table.flush()
	if answer.SiteReason != nil {
		fmt.Fprintf(t.out, "At the site %s: %s.\n", *answer.Site, *answer.SiteReason)
	}
	if answer.OtherSites != nil {
		for _, o := range *answer.OtherSites {
			fmt.Fprintf(t.out, "Not at %s: %s.\n", o.Site, o.Why)
		}
	}
	for _, words := range orNothing(answer.Granted) {
		fmt.Fprintln(t.out, words+".")
	}
	if answer.Size != nil {
		fmt.Fprintf(t.out, "Of the size %s.\n", sizeWords(*answer.Size))
	}
	word := "In all about "
	if unknown {
		word = "What is known of it takes about "
	}
	fmt.Fprintf(t.out, "%s%s. Nothing was made.\n", word, seconds(total))
}

var checksCommand = command{
	name: "checks", args: "NAME [-last] [-json]", summary: "Prove what a workspace's definition says must hold",
	example: "domicile checks fares",
	takes:   []string{"NAME"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		last := f.Bool("last", false, "show the last proof instead of a new one")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			var list []client.CheckResult
			var err error
			if *last {
				w, err := client.Answer[client.Workspace](c.GetWorkspace(ctx, args[0]))
				if err != nil {
					return err
				}
				if w.Checks != nil {
					list = *w.Checks
				}
			} else if list, err = client.Answer[[]client.CheckResult](c.CheckWorkspace(ctx, args[0])); err != nil {
				return err
			}
			if *asJSON {
				err = printJSON(t.out, list)
			} else {
				printChecks(t, list)
			}
			for _, r := range list {
				if err == nil && !r.Ok {
					err = exitStatus(1)
				}
			}
			return err
		}
	},
}

func printChecks(t *terminal, list []client.CheckResult) {
	if len(list) == 0 {
		fmt.Fprintln(t.out, "The definition has no checks. docs/definition.md says how to write them: customizations.domicile.checks.")
		return
	}
	table := newTable(t.out)
	table.row("CHECK", "HOLDS", "EXPECTED", "FOUND", "COMES FROM")
	for _, r := range list {
		word := "yes"
		if !r.Ok {
			word = "no"
		}
		table.row(r.Name, word, r.Expected, orDash(r.Found), orDash(text(r.From)))
	}
	table.flush()
}

var tasksCommand = command{
	name: "tasks", args: "NAME [TASK] [-json]", summary: "List the team's tasks of a workspace, or run one",
	example: "domicile tasks fares\ndomicile tasks fares test",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if len(args) == 2 {
				return runTask(ctx, t, c, args[0], args[1])
			}
			if err := exactly(args, "NAME"); err != nil {
				return err
			}
			list, err := tasksOf(ctx, c, args[0])
			return present(t, *asJSON, list, err, func(list []client.Task) { printTasks(t, list) })
		}
	},
}

func printTasks(t *terminal, list []client.Task) {
	if len(list) == 0 {
		fmt.Fprintln(t.out, "The definition has no tasks. docs/definition.md says how to write them: customizations.domicile.tasks.")
		return
	}
	table := newTable(t.out)
	table.row("TASK", "WHAT IT IS", "AFTER", "RUNS")
	for _, v := range list {
		after := ""
		if v.After != nil {
			after = strings.Join(*v.After, ", ")
		}
		table.row(v.Name, orDash(text(v.Description)), orDash(after), v.Command)
	}
	table.flush()
}

func tasksOf(ctx context.Context, c *client.Service, name string) ([]client.Task, error) {
	w, err := client.Answer[client.Workspace](c.GetWorkspace(ctx, name))
	if err != nil || w.Tasks == nil {
		return nil, err
	}
	return *w.Tasks, nil
}

// runTask runs a task behind those that come before it.
func runTask(ctx context.Context, t *terminal, c *client.Service, name, task string) error {
	list, err := tasksOf(ctx, c, name)
	if err != nil {
		return err
	}
	var names []string
	for _, v := range list {
		if v.Name == task {
			return runIn(ctx, t, c, name, v.Script)
		}
		names = append(names, v.Name)
	}
	return wrongUse("%s has no task %q; it has %s", name, task, orDash(strings.Join(names, ", ")))
}

var servicesCommand = command{
	name: "services", args: "NAME [log SERVICE | restart SERVICE] [-json]", summary: "Show the services beside a workspace, what they print, and restart one",
	example: "domicile services quayboard\ndomicile services quayboard log db",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if len(args) == 0 {
				return wrongUse("NAME is missing")
			}
			if len(args) == 1 {
				return listServices(ctx, t, c, args[0], *asJSON)
			}
			if err := exactly(args[1:], "log or restart", "SERVICE"); err != nil {
				return err
			}
			switch args[1] {
			case "log":
				answer, err := client.Answer[client.ServiceLog](c.GetServiceLog(ctx, args[0], args[2]))
				return present(t, *asJSON, answer, err, func(answer client.ServiceLog) { fmt.Fprint(t.out, answer.Text) })
			case "restart":
				if _, err := client.Answer[struct{}](c.RestartService(ctx, args[0], args[2])); err != nil {
					return err
				}
				return listServices(ctx, t, c, args[0], *asJSON)
			}
			return wrongUse("%q is neither log nor restart", args[1])
		}
	},
}

func listServices(ctx context.Context, t *terminal, c *client.Service, name string, asJSON bool) error {
	list, err := client.Answer[[]client.BesideService](c.ListServices(ctx, name))
	return present(t, asJSON, list, err, func(list []client.BesideService) { printServices(t, list) })
}

func printServices(t *terminal, list []client.BesideService) {
	if len(list) == 0 {
		fmt.Fprintln(t.out, "The workspace has no services beside it.")
		return
	}
	table := newTable(t.out)
	table.row("SERVICE", "STATE", "IMAGE")
	for _, s := range list {
		state := "stopped"
		switch {
		case s.Running && s.Health != nil:
			state = "running, " + string(*s.Health)
		case s.Running:
			state = "running"
		case s.ExitCode != nil:
			state = fmt.Sprintf("ended with exit status %d", *s.ExitCode)
		}
		table.row(s.Name, state, s.Image)
	}
	table.flush()
}
