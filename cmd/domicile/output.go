package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"golang.org/x/term"

	"domicile/internal/visible"
)

// jsonFlag declares -json.
func jsonFlag(f *flag.FlagSet) *bool { return f.Bool("json", false, "print JSON") }

func printJSON(w io.Writer, v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	_, err := io.WriteString(under(w), visible.JSON(b.String()))
	return err
}

// present prints an answer of the service: as JSON, or as show does for people.
func present[T any](t *terminal, asJSON bool, answer T, err error, show func(T)) error {
	if err != nil {
		return err
	}
	if asJSON {
		return printJSON(t.out, answer)
	}
	show(answer)
	return nil
}

// openFolder opens a folder so that nothing outside it can be read or written through it.
func openFolder(folder string) (*os.Root, error) {
	root, err := os.OpenRoot(folder)
	var path *os.PathError
	if errors.As(err, &path) {
		err = path.Err // the folder is named once
	}
	if err != nil {
		return nil, fmt.Errorf("open the folder %s: %w", folder, err)
	}
	return root, nil
}

// table prints columns.
type table struct{ w *tabwriter.Writer }

func newTable(w io.Writer) table { return table{tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)} }

func (t table) row(cells ...string) { fmt.Fprintln(t.w, strings.Join(cells, "\t")) }
func (t table) flush()              { _ = t.w.Flush() } // what it writes to tells of errors

// fileOf is the terminal device behind a reader or writer, if it is one.
func fileOf(x any) (*os.File, bool) {
	if w, is := x.(io.Writer); is {
		x = under(w)
	}
	f, ok := x.(*os.File)
	return f, ok && term.IsTerminal(int(f.Fd()))
}

// colours tells whether to use them.
func colours(w io.Writer) bool {
	_, isTerminal := fileOf(w)
	return isTerminal && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

// ago tells a time as people do.
func ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(d.Hours()/24))
}

// seconds tells a duration the same way everywhere.
func seconds(d time.Duration) string {
	if d >= time.Minute {
		return fmt.Sprintf("%d:%02d min", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

func text(p *string) string {
	if p == nil {
		return ""
	}
	return *p
}

// orNothing is a list that may be left out.
func orNothing[T any](list *[]T) []T {
	if list == nil {
		return nil
	}
	return *list
}
