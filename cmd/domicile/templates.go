package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"domicile/internal/artifact"
	"domicile/internal/client"
	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/template"
)

// choices are options of a template: NAME=VALUE, given as often as wanted.
type choices map[string]string

func (c choices) String() string { return "" }
func (c choices) Set(s string) error {
	name, value, found := strings.Cut(s, "=")
	if !found || name == "" {
		return fmt.Errorf("NAME=VALUE is wanted, not %q", s)
	}
	c[name] = value
	return nil
}

var templatesCommand = command{
	name: "templates", args: "[list [NAMESPACE | FOLDER] | show REF | apply REF [DIR]] [-option NAME=VALUE] [-overwrite] [-json]", summary: "List, show and apply templates of definitions",
	example: "domicile templates\ndomicile templates show 127.0.0.1:4391/skerry/templates/python-service\ndomicile templates apply 127.0.0.1:4391/skerry/templates/python-service . -option port=8000",
	takes:   anything, alone: true,
	setup: func(f *flag.FlagSet) action {
		asJSON, options := jsonFlag(f), choices{}
		f.Var(options, "option", "an option of the template, as `NAME=VALUE`; again for each")
		leave := f.String("without", "", "optional `PATHS` of the template to leave out, parted by commas")
		overwrite := f.Bool("overwrite", false, "write over files that are there")
		return func(ctx context.Context, t *terminal, _ *client.Service, args []string) error {
			store := &artifact.Store{Folder: cacheFolder()}
			if len(args) == 0 {
				args = []string{"list"}
			}
			switch args[0] {
			case "list":
				return listTemplates(ctx, t, store, args[1:], *asJSON)
			case "show":
				if err := exactly(args[1:], "REF"); err != nil {
					return err
				}
				return showTemplate(ctx, t, store, args[1], *asJSON)
			case "apply":
				if len(args) == 2 {
					args = append(args, ".")
				}
				if err := exactly(args[1:], "REF", "DIR"); err != nil {
					return err
				}
				tmpl, err := readTemplate(ctx, store, args[1])
				if err != nil {
					return err
				}
				return applyTemplate(t, tmpl, args[2], options, split(*leave), *overwrite, *asJSON)
			}
			return wrongUse("%q is neither list nor show nor apply", args[0])
		}
	},
}

func split(s string) []string {
	return slices.DeleteFunc(strings.Split(s, ","), func(p string) bool { return p == "" })
}

// listed is a template in a list, with the reference to use it by.
type listed struct {
	Reference string `json:"reference"`
	artifact.Entry
}

// listTemplates lists those of a namespace or a folder, or without one those that the
// service knows.
func listTemplates(ctx context.Context, t *terminal, store *artifact.Store, args []string, asJSON bool) error {
	if len(args) > 1 {
		return wrongUse("%q is one argument too many", args[1])
	}
	places := args
	if len(places) == 0 {
		s, err := service()
		if err != nil {
			return err
		}
		answer, err := client.Answer[client.TemplatePlaces](s.ListTemplatePlaces(ctx))
		if err != nil {
			return err
		}
		places = answer.Namespaces
	}
	list := []listed{}
	for _, place := range places {
		found, err := templatesAt(ctx, store, place)
		if err != nil {
			return err
		}
		list = append(list, found...)
	}
	if asJSON {
		return printJSON(t.out, list)
	}
	if len(list) == 0 {
		fmt.Fprintln(t.out, "There are no templates. Name a namespace of a registry or a folder: domicile templates list REGISTRY/NAMESPACE")
		return nil
	}
	table := newTable(t.out)
	table.row("TEMPLATE", "VERSION", "WHAT IT IS", "REFERENCE")
	for _, e := range list {
		table.row(e.ID, e.Version, e.Name+": "+e.Description, e.Reference)
	}
	table.flush()
	return nil
}

func templatesAt(ctx context.Context, store *artifact.Store, place string) (list []listed, err error) {
	entries, err := os.ReadDir(place)
	if err != nil {
		_, templates, err := store.Collection(ctx, place)
		if err != nil {
			return nil, err
		}
		for _, e := range templates {
			list = append(list, listed{place + "/" + e.ID, e})
		}
		return list, nil
	}
	for _, e := range entries {
		folder := filepath.Join(place, e.Name())
		if tmpl, err := template.Read(os.DirFS(folder)); err == nil {
			list = append(list, listed{folder, artifact.Entry{ID: tmpl.ID, Version: tmpl.Version, Name: tmpl.Name, Description: tmpl.Description, Keywords: tmpl.Keywords}})
		}
	}
	return list, nil
}

// readTemplate reads a template from a folder or a registry.
func readTemplate(ctx context.Context, store *artifact.Store, ref string) (*template.Template, error) {
	if info, err := os.Stat(ref); err == nil && info.IsDir() {
		return template.Read(os.DirFS(ref))
	}
	r, err := definition.ParseOCI(ref)
	if err != nil {
		return nil, fault.Wrap(err, "bad-reference", "give a folder, or registry/namespace/id", "%q is no template", ref)
	}
	files, err := store.Template(ctx, r)
	if err != nil {
		return nil, err
	}
	return template.Read(files)
}

func showTemplate(ctx context.Context, t *terminal, store *artifact.Store, ref string, asJSON bool) error {
	tmpl, err := readTemplate(ctx, store, ref)
	if err != nil {
		return err
	}
	if asJSON {
		return printJSON(t.out, tmpl)
	}
	fmt.Fprintf(t.out, "%s (%s %s)\n%s\n", tmpl.Name, tmpl.ID, tmpl.Version, tmpl.Description)
	if len(tmpl.Options) > 0 {
		fmt.Fprintln(t.out, "\nOptions:")
		table := newTable(t.out)
		for _, o := range tmpl.Options {
			values := strings.Join(append(slices.Clone(o.Enum), o.Proposals...), ", ")
			if len(o.Proposals) > 0 {
				values += ", …"
			}
			table.row("  "+o.Name, "default "+orDash(o.Default), values, o.Description)
		}
		table.flush()
	}
	files, err := tmpl.Apply(nil, nil)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		fmt.Fprintf(t.out, "\n── %s\n%s", name, files[name].Content)
	}
	return nil
}

func applyTemplate(t *terminal, tmpl *template.Template, folder string, options choices, leave []string, overwrite, asJSON bool) error {
	files, err := tmpl.Apply(options, leave)
	if err != nil {
		return err
	}
	if err := writeFiles(folder, files, overwrite); err != nil {
		return err
	}
	names := slices.Sorted(maps.Keys(files))
	if asJSON {
		return printJSON(t.out, map[string]any{"template": tmpl.ID, "written": names})
	}
	for _, name := range names {
		fmt.Fprintln(t.out, "Wrote", name)
	}
	fmt.Fprintf(t.out, "See what it makes: domicile check %s\n", folder)
	return nil
}

// writeFiles writes all files or none: where one is there already, nothing is touched.
func writeFiles(folder string, files map[string]template.File, overwrite bool) error {
	root, err := openFolder(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	names := slices.Sorted(maps.Keys(files))
	var there []string
	for _, name := range names {
		if _, err := root.Lstat(name); err == nil {
			there = append(there, name)
		} else if !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("look for %s: %w", name, err)
		}
	}
	if len(there) > 0 && !overwrite {
		return fault.New("file-exists", "move them away, or say -overwrite", "nothing was written: %s would be overwritten", strings.Join(there, ", "))
	}
	for _, name := range names {
		if err := root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return fmt.Errorf("make the folder of %s: %w", name, err)
		}
		mode := fs.FileMode(0o644)
		if files[name].Executable {
			mode = 0o755
		}
		if err := root.WriteFile(name, files[name].Content, mode); err != nil {
			return fmt.Errorf("write %s: %w", name, err)
		}
	}
	return nil
}
