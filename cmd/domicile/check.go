package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"domicile/internal/client"
	"domicile/internal/compose"
	"domicile/internal/definition"
)

var checkCommand = command{
	name: "check", args: "[DIR | ADDRESS] [-file PATH] [-json]", summary: "Read a definition, say what it makes and what is wrong with it",
	example: "domicile check .\ndomicile check http://127.0.0.1:4390/skerry/timetable.git",
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		file := f.String("file", "", "the definition, where there are several")
		ref := f.String("ref", "", "branch, tag or commit, for an address")
		metadata := f.String("image-metadata", "", "take the base image's metadata label from this file")
		_ = f.Bool("offline", false, "ask no registry")
		return func(ctx context.Context, t *terminal, args []string) error {
			if len(args) == 0 {
				args = []string{"."}
			}
			if err := exactly(args, "DIR"); err != nil {
				return err
			}
			var report *definition.Report
			var raw any
			var err error
			if info, statErr := os.Stat(args[0]); statErr == nil && info.IsDir() {
				report, err = checkFolder(args[0], *file, *metadata)
				raw = report
			} else if strings.Contains(args[0], ":") {
				report, raw, err = checkAddress(ctx, args[0], *ref, *file)
			} else {
				err = fmt.Errorf("%s is neither a folder nor a git address", args[0])
			}
			if err != nil {
				return err
			}
			if *asJSON {
				err = printJSON(t.out, raw)
			} else {
				explain(t.out, report)
			}
			if err == nil && report.HasErrors() {
				err = exitStatus(1)
			}
			return err
		}
	},
}

func checkFolder(folder, file, metadata string) (*definition.Report, error) {
	absolute, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(absolute)
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", folder, err)
	}
	defer root.Close()
	o := definition.Options{File: filepath.ToSlash(file), Folder: absolute, Environment: os.LookupEnv, Compose: compose.Reader{}}
	if metadata != "" {
		if o.ImageMetadata, err = os.ReadFile(metadata); err != nil {
			return nil, fmt.Errorf("read the image's metadata: %w", err)
		}
	}
	return definition.Read(context.TODO(), root.FS(), o), nil
}

// checkAddress lets the service read the definition; what it answers is printed as it is.
func checkAddress(ctx context.Context, address, ref, file string) (*definition.Report, any, error) {
	c, err := service()
	if err != nil {
		return nil, nil, err
	}
	answer, err := client.Answer[client.CheckAnswer](c.CheckSource(ctx, client.CheckRequest{Source: address, Ref: given(ref), File: given(file)}))
	if err != nil {
		return nil, nil, err
	}
	report := &definition.Report{}
	if err := json.Unmarshal(answer.Report, report); err != nil {
		return nil, nil, fmt.Errorf("read the service's answer: %w", err)
	}
	if answer.Text != "" {
		report.Text = &definition.Text{File: report.File, Bytes: []byte(answer.Text)}
	}
	return report, answer.Report, nil
}

// explain says what the definition makes, then what is wrong, then what floats.
func explain(w io.Writer, r *definition.Report) {
	if e := r.Effective; e != nil && !r.HasErrors() {
		fmt.Fprintf(w, "%s makes a workspace of kind %s.\n", r.File, r.Kind)
		table := newTable(w)
		for _, row := range describe(r) {
			table.row("  "+row[0], row[1])
		}
		table.flush()
	}
	for _, p := range r.Problems {
		fmt.Fprintf(w, "\n%s\n", p)
		if r.Text != nil && p.Line > 0 {
			line := strings.ReplaceAll(r.Text.Line(p.Line), "\t", " ")
			fmt.Fprintf(w, "  %5d | %s\n        | %s^\n", p.Line, line, strings.Repeat(" ", max(0, p.Column-1)))
		}
		if p.Suggestion != "" {
			fmt.Fprintf(w, "  Instead: %s\n", p.Suggestion)
		}
	}
	if len(r.Floating) > 0 {
		fmt.Fprintln(w, "\nNot pinned:")
		for _, f := range r.Floating {
			fmt.Fprintf(w, "  %s %s: %s\n", f.Kind, f.Reference, f.Why)
		}
	}
	errors := 0
	for _, p := range r.Problems {
		if p.Severity == definition.Error {
			errors++
		}
	}
	if errors > 0 {
		fmt.Fprintf(w, "\n%d of these must be mended before a workspace can be made.\n", errors)
	}
}

func describe(r *definition.Report) (rows [][2]string) {
	e := r.Effective
	add := func(name, value string) {
		if value != "" {
			rows = append(rows, [2]string{name, value})
		}
	}
	add("name", e.Name)
	add("image", e.Image)
	if e.Build != nil {
		add("built from", e.Build.Dockerfile+" in "+e.Build.Context)
	}
	add("Compose", strings.Join(e.DockerComposeFile, ", "))
	add("service", e.Service)
	add("user", e.RemoteUser)
	add("folder", e.WorkspaceFolder)
	for _, p := range e.ForwardPorts {
		add("port "+p.String(), strings.TrimSpace(e.Attributes(p).Label+" "+e.Attributes(p).Protocol))
	}
	for _, stage := range definition.Lifecycle {
		for _, c := range e.Stage(stage) {
			add("runs at "+stage, string(c.Command))
		}
	}
	return rows
}
