package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"domicile/internal/client"
)

var provisionCommand = command{
	name: "provision", args: "SOURCE [-ref REF] [-name NAME] [-file PATH] [-site SITE] [-size SIZE] [-vary KEY=VALUE] [-mount] [-detach] [-json]",
	summary: "Make a workspace of a git address or a folder on the service's host",
	example: "domicile provision http://127.0.0.1:4390/skerry/timetable.git -ref main",
	takes:   []string{"SOURCE"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		ref := f.String("ref", "", "branch, tag or commit (default: the repository's own branch)")
		name := f.String("name", "", "the workspace's name (default: the repository's)")
		file := f.String("file", "", "the definition, where the repository has several")
		at := f.String("site", "", "the site, of those that domicile sites lists (default: the plan chooses)")
		size := f.String("size", "", "a size of the site, which domicile sites lists (default: the definition's)")
		vary := varyFlag(f, "vary", "set a property of the definition to another value: `KEY=VALUE`, where KEY is image, features.FEATURE.OPTION, build.args.NAME or containerEnv.NAME; again for each")
		mount := f.Bool("mount", false, "mount the folder in place instead of copying it, where policy allows")
		detach := f.Bool("detach", false, "do not wait for the end")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			q := client.ProvisionRequest{Source: folderOr(args[0]), Ref: given(*ref), Name: given(*name), File: given(*file), Site: given(*at), Size: given(*size), Mount: mount, Vary: vary.given()}
			w, err := client.Answer[client.Workspace](c.Provision(ctx, q))
			if err != nil {
				return err
			}
			if *detach {
				if *asJSON {
					return printJSON(t.out, w)
				}
				fmt.Fprintf(t.out, "%s is being made. To watch: domicile follow %s\n", w.Name, w.Name)
				return nil
			}
			if err := follow(ctx, t, c, w.Name, *w.Run, *asJSON); err != nil {
				return err
			}
			if w, err = client.Answer[client.Workspace](c.GetWorkspace(ctx, w.Name)); err != nil {
				return err
			}
			if *asJSON {
				return printJSON(t.out, w)
			}
			fmt.Fprintf(t.out, "%s is ready.\n", w.Name)
			waysIn(t.out, w)
			return advise(ctx, t, c, w.Run)
		}
	},
}

// advise tells where the time of a long run went, and what would make the next one faster.
func advise(ctx context.Context, t *terminal, c *client.Service, r *client.Run) error {
	if r == nil {
		return nil
	}
	run, err := client.Answer[client.Run](c.GetRun(ctx, r.Id))
	if err != nil || run.Advice == nil {
		return err
	}
	list(t, "Where the time went:", run.Advice.Where)
	list(t, "What would make the next one faster:", run.Advice.Faster)
	return nil
}

// list prints lines below a heading; nothing where there are none.
func list(t *terminal, heading string, lines []string) {
	if len(lines) == 0 {
		return
	}
	fmt.Fprintln(t.out, heading)
	for _, line := range lines {
		fmt.Fprintln(t.out, "  "+line)
	}
}

// folderOr makes a relative folder absolute: the service does not know where one stands.
func folderOr(source string) string {
	if info, err := os.Stat(source); err == nil && info.IsDir() {
		if absolute, err := filepath.Abs(source); err == nil {
			return absolute
		}
	}
	return source
}

// texts are the values of a flag that can be given again and again.
type texts []string

func (t *texts) String() string { return "" }
func (t *texts) Set(s string) error {
	key, _, found := strings.Cut(s, "=")
	if !found || key == "" {
		return fmt.Errorf("KEY=VALUE is wanted, not %q", s)
	}
	*t = append(*t, s)
	return nil
}

// given are they as an answer; nil where there are none.
func (t *texts) given() *client.Variations {
	if len(*t) == 0 {
		return nil
	}
	return (*client.Variations)(t)
}

func varyFlag(f *flag.FlagSet, name, usage string) *texts {
	t := &texts{}
	f.Var(t, name, usage)
	return t
}

func given(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

var followCommand = command{
	name: "follow", args: "NAME [-json]", summary: "Follow the run of a workspace to its end",
	example: "domicile follow timetable",
	takes:   []string{"NAME"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			w, err := client.Answer[client.Workspace](c.GetWorkspace(ctx, args[0]))
			if err != nil {
				return err
			}
			if w.Run == nil {
				return errors.New("the workspace has no run")
			}
			if err := follow(ctx, t, c, w.Name, *w.Run, *asJSON); err != nil {
				return err
			}
			w, err = client.Answer[client.Workspace](c.GetWorkspace(ctx, args[0]))
			if err != nil {
				return nil // the run that was followed removed it
			}
			if *asJSON {
				return printJSON(t.out, w)
			}
			show(t.out, w)
			return nil
		}
	},
}
