package main

import (
	"encoding/json"
	"fmt"
	"io"
	"sort"
	"strings"

	"domicile/internal/definition"
)

// explain says what the definition makes, then what is wrong, then what floats.
func explain(w io.Writer, r *definition.Report) {
	facts := r.Makes
	if facts == nil {
		facts = r.Facts()
	}
	if len(facts) > 0 && !r.HasErrors() {
		fmt.Fprintf(w, "%s makes:\n", r.File)
		table, last := newTable(w), ""
		for _, f := range facts {
			what := f.What
			if what == last {
				what = ""
			}
			last = f.What
			text := f.Text
			if f.From != "" {
				text += "  (" + f.From + ")"
			}
			table.row("  "+what, text)
		}
		table.flush()
	}
	for _, p := range r.Problems {
		printProblem(w, p)
	}
	if len(r.Floating) > 0 {
		fmt.Fprintln(w, "\nNot pinned (domicile check -lock pins it):")
		table := newTable(w)
		for _, f := range r.Floating {
			table.row("  "+f.Kind, f.Reference, f.Why)
		}
		table.flush()
	}
	errors := 0
	for _, p := range r.Problems {
		if p.Severity == definition.Error {
			errors++
		}
	}
	switch {
	case errors == 1:
		fmt.Fprintln(w, "\nThis error must be mended before a workspace can be made.")
	case errors > 1:
		fmt.Fprintf(w, "\nThese %d errors must be mended before a workspace can be made.\n", errors)
	}
}

func printProblem(w io.Writer, p definition.Problem) {
	fmt.Fprintf(w, "\n%s\n", p)
	if p.Excerpt != "" && p.Line > 0 {
		fmt.Fprintf(w, "  %5d | %s\n", p.Line, p.Excerpt)
		if p.Column <= len([]rune(p.Excerpt)) {
			fmt.Fprintf(w, "        | %s^\n", strings.Repeat(" ", max(0, p.Column-1)))
		}
	}
	if p.Suggestion != "" {
		fmt.Fprintf(w, "  Instead: %s\n", p.Suggestion)
	}
}

// printEffective prints the merged configuration, each value with where it came from.
func printEffective(w io.Writer, r *definition.Report) error {
	if r.Effective == nil {
		explain(w, r)
		return nil
	}
	b, err := json.Marshal(r.Effective)
	if err != nil {
		return fmt.Errorf("print the configuration: %w", err)
	}
	text, err := definition.ParseText("", b)
	if err != nil {
		return fmt.Errorf("print the configuration: %w", err)
	}
	table := newTable(w)
	for _, m := range text.Root.Members {
		printMember(table, "/"+m.Name, m.Name, m.Value, r.Origins)
	}
	table.flush()
	return nil
}

// printMember prints a value with its origin, or its parts where they have their own.
func printMember(t table, at, name string, v *definition.Value, origins map[string]string) {
	if from, known := origins[at]; known {
		t.row(name, v.Compact(), from)
		return
	}
	switch v.Kind {
	case definition.Array:
		for i, item := range v.Items {
			from, value := origins[fmt.Sprintf("%s/%d", at, i)], item
			if command := item.Get("command"); command != nil { // lifecycle commands say so themselves
				from, value = item.Get("from").Str, command
			}
			t.row(fmt.Sprintf("%s[%d]", name, i), value.Compact(), from)
		}
	case definition.Object:
		members := v.Members
		sort.SliceStable(members, func(i, j int) bool { return members[i].Name < members[j].Name })
		for _, m := range members {
			printMember(t, at+"/"+strings.NewReplacer("~", "~0", "/", "~1").Replace(m.Name), name+"."+m.Name, m.Value, origins)
		}
	default:
		t.row(name, v.Compact(), "")
	}
}
