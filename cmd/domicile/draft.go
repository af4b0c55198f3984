package main

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"

	"domicile/internal/artifact"
	"domicile/internal/client"
	"domicile/internal/definition"
	"domicile/internal/draft"
	"domicile/internal/fault"
	"domicile/internal/template"
)

var draftCommand = command{
	name: "draft", args: "[DIR] [-as NAME] [-template REF [-option NAME=VALUE]] [-show] [-json]", summary: "Write a definition for a repository that has none",
	example: "domicile draft\ndomicile draft -show\ndomicile draft -as python\ndomicile draft -template 127.0.0.1:4391/skerry/templates/python-service",
	takes:   anything, alone: true,
	setup: func(f *flag.FlagSet) action {
		asJSON, options := jsonFlag(f), choices{}
		from := f.String("template", "", "write what this template has instead")
		f.Var(options, "option", "an option of the template, as `NAME=VALUE`; again for each")
		as := f.String("as", "", "which of the ways to write; without it the surest")
		show := f.Bool("show", false, "only show what would be written")
		return func(ctx context.Context, t *terminal, _ *client.Service, args []string) error {
			if len(args) == 0 {
				args = []string{"."}
			}
			if err := exactly(args, "DIR"); err != nil {
				return err
			}
			if err := noDefinition(args[0]); err != nil && !*show {
				return err
			}
			if *from != "" {
				tmpl, err := readTemplate(ctx, &artifact.Store{Folder: cacheFolder()}, *from)
				if err != nil {
					return err
				}
				return applyTemplate(t, tmpl, args[0], options, nil, false, *asJSON)
			}
			return writeDraft(t, args[0], *as, *show, *asJSON)
		}
	},
}

// noDefinition keeps a definition that is there from getting company.
func noDefinition(folder string) error {
	root, err := openFolder(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	if found := definition.Locate(root.FS()); len(found) > 0 {
		return fault.New("file-exists", "domicile check says what it makes; -show drafts without writing", "the repository has a definition already: %s", strings.Join(found, ", "))
	}
	return nil
}

func writeDraft(t *terminal, folder, as string, show, asJSON bool) error {
	root, err := openFolder(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	d, err := draft.Make(root.FS())
	if err != nil {
		return err
	}
	way := d.Ways[0]
	if as != "" {
		i := slices.IndexFunc(d.Ways, func(w draft.Way) bool { return w.Name == as })
		if i < 0 {
			var names []string
			for _, w := range d.Ways {
				names = append(names, w.Name)
			}
			return wrongUse("%q is none of the ways: %s", as, strings.Join(names, ", "))
		}
		way = d.Ways[i]
	}
	if !show {
		if err := writeFiles(folder, map[string]template.File{draft.File: {Content: []byte(way.Text)}}, false); err != nil {
			return err
		}
	}
	if asJSON {
		return printJSON(t.out, d)
	}
	printDraft(t, d, way, show)
	return nil
}

func printDraft(t *terminal, d *draft.Draft, chosen draft.Way, show bool) {
	if len(d.Seen) == 0 {
		fmt.Fprintln(t.out, "Nothing was seen that tells what the repository needs.")
	} else {
		fmt.Fprintln(t.out, "Seen:")
		table := newTable(t.out)
		for _, s := range d.Seen {
			where := s.File
			if s.Line > 0 {
				where = fmt.Sprintf("%s:%d", s.File, s.Line)
			}
			table.row("  "+s.What, s.Value, where, string(s.Sure))
		}
		table.flush()
	}
	fmt.Fprintln(t.out, "\nWays it could be meant:")
	table := newTable(t.out)
	for _, w := range d.Ways {
		mark := " "
		if w.Name == chosen.Name {
			mark = "*"
		}
		table.row(" "+mark+" "+w.Name, string(w.Sure), w.Why)
	}
	table.flush()
	if show {
		fmt.Fprintf(t.out, "\n── %s\n%s", draft.File, chosen.Text)
		return
	}
	fmt.Fprintf(t.out, "\nWrote %s as %s. Another way: remove the file, then domicile draft -as NAME.\nSee what it makes: domicile check\n", draft.File, chosen.Name)
}
