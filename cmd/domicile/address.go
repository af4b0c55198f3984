package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/ssh"

	"domicile/internal/client"
	"domicile/internal/fault"
	"domicile/internal/trial"
	"domicile/internal/usher"
)

var addressCommand = command{
	name: "address", args: "NAME [-test] [-json]", summary: "Tell every way into a workspace, each tried from this machine",
	example: "domicile address timetable\ndomicile address timetable -test",
	takes:   []string{"NAME"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		test := f.Bool("test", false, "show each step that was tried")
		settings := f.String("ssh-config", "", "ssh's settings of yours (default: .ssh/config in the home folder)")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			r, err := tryAll(ctx, c, args[0], *settings)
			if err != nil {
				return err
			}
			if *asJSON {
				err = printJSON(t.out, r)
			} else {
				printTrial(t, r, *test)
			}
			if err == nil && !fine(r) {
				err = exitStatus(1)
			}
			return err
		}
	},
}

func tryAll(ctx context.Context, c *client.Service, workspace, settings string) (trial.Report, error) {
	o := trial.Options{Service: tried{c}, URL: c.URL, Workspace: workspace, Settings: settings, Keys: trial.Keys{Agent: os.Getenv("SSH_AUTH_SOCK")}}
	if home, err := os.UserHomeDir(); err == nil {
		o.Keys.Folder = filepath.Join(home, ".ssh")
	}
	h, err := hallOf(settings, usualSuffix)
	if err != nil {
		return trial.Report{}, err
	}
	suffix := usualSuffix
	if s, err := h.status(ctx); err == nil {
		suffix = s.Suffix
	}
	h.ssh.Suffix = suffix
	if included, err := h.ssh.Included(); err == nil && included {
		o.Address = usher.AddressOf(workspace, suffix)
	}
	return trial.Run(ctx, o)
}

// fine tells whether there is a way in.
func fine(r trial.Report) bool {
	for _, w := range r.Ways {
		if w.Works {
			return true
		}
	}
	return false
}

func printTrial(t *terminal, r trial.Report, steps bool) {
	if steps {
		printSteps(t, "What all ways need", r.Before)
		for _, w := range r.Ways {
			fmt.Fprintln(t.out)
			printSteps(t, w.Line, w.Steps)
		}
		fmt.Fprintln(t.out)
	}
	for _, s := range r.Before {
		if !s.Fine {
			fmt.Fprintf(t.out, "That %s is not so: %s.\n%s\n", s.Name, s.Found, fault.ToDo(s.Remedy))
		}
	}
	var work, fail []trial.Way
	for _, w := range r.Ways {
		if w.Works {
			work = append(work, w)
		} else {
			fail = append(fail, w)
		}
	}
	if len(work) > 0 {
		fmt.Fprintf(t.out, "Ways into %s, each tried just now:\n", r.Workspace)
		table := newTable(t.out)
		for _, w := range work {
			table.row("  "+w.Line, tookAll(w))
			for _, more := range moreOf(w, r.Known) {
				table.row("  "+more, "the same way")
			}
		}
		table.flush()
	}
	for _, w := range fail {
		last := w.Steps[len(w.Steps)-1]
		fmt.Fprintf(t.out, "Not from here: %s\n  %s: %s\n", w.Line, last.Name, last.Found)
		if last.Remedy != "" {
			fmt.Fprintf(t.out, "  %s\n", fault.ToDo(last.Remedy))
		}
	}
	if len(r.Ways) > 0 {
		fmt.Fprintf(t.out, "Host key of %s: %s\n  %s\n  or, for its later keys too:\n  %s\n", hostAndPort(r.Known), r.Known.Fingerprint, knownHost(r.Known), knownAuthority(r.Known))
	}
}

func printSteps(t *terminal, title string, steps []trial.Step) {
	fmt.Fprintln(t.out, title)
	table := newTable(t.out)
	for _, s := range steps {
		word := "fine"
		if !s.Fine {
			word = "FAILS"
		}
		table.row("  "+word, s.Name, s.Found, inSeconds(s.Took))
	}
	table.flush()
}

// moreOf are addresses that go the same way, for programs that take them.
func moreOf(w trial.Way, known client.Ways) []string {
	if w.Name == "service" {
		return nil
	}
	at := fmt.Sprintf("%s@%s:%d", known.User, known.Host, known.Port)
	if w.Name == "address" {
		at = strings.TrimPrefix(w.Line, "ssh ")
	}
	return []string{"sftp://" + at + path.Join("/", text(known.Folder))}
}

func tookAll(w trial.Way) string {
	var sum float64
	for _, s := range w.Steps {
		sum += s.Took
	}
	return inSeconds(sum)
}

// inSeconds tells how long a step took, of which most take parts of a second.
func inSeconds(s float64) string { return fmt.Sprintf("%.3f s", s) }

func hostAndPort(w client.Ways) string { return fmt.Sprintf("%s:%d", w.Host, w.Port) }

// knownHost is the line that a known_hosts file wants.
func knownHost(w client.Ways) string { return hostName(w) + " " + w.HostKey }

// knownAuthority is the line by which every key of the service's is known, also after it was changed.
func knownAuthority(w client.Ways) string {
	return "@cert-authority " + hostName(w) + " " + w.HostAuthority
}

func hostName(w client.Ways) string {
	if w.Port != 22 {
		return fmt.Sprintf("[%s]:%d", w.Host, w.Port)
	}
	return w.Host
}

// tried is the service as a trial needs it.
type tried struct{ *client.Service }

// Ways asks how a workspace is reached.
func (s tried) Ways(ctx context.Context, workspace string) (client.Ways, error) {
	return client.Answer[client.Ways](s.TryWays(ctx, workspace))
}

// Keys lists the person's keys.
func (s tried) Keys(ctx context.Context) ([]client.Key, error) {
	return client.Answer[[]client.Key](s.ListKeys(ctx))
}

// SSH opens a connection through the service's own address.
func (s tried) SSH(ctx context.Context, workspace string) (*ssh.Client, error) {
	return s.Service.SSH(ctx, workspace)
}
