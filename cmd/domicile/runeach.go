package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"path"
	"regexp"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/client"
	"domicile/internal/fault"
)

const (
	// mostVersions bounds how many versions of an environment one call makes.
	mostVersions = 16
	// mostKept bounds what is kept of the output of each, in bytes.
	mostKept = 1 << 20
	// removeLimit is how long the removal of a version may take.
	removeLimit = 5 * time.Minute
)

// eachRun runs one command in several versions of an environment.
type eachRun struct {
	each            *texts
	site, ref, file *string
	size            *string
	together        *int
	keep, asJSON    *bool
	say             func(format string, args ...any)
	freed           chan struct{} // somebody's place became free
	mu              sync.Mutex
	holding         int // how many have a place
}

func eachFlags(f *flag.FlagSet) *eachRun {
	return &eachRun{
		each:     varyFlag(f, "each", "with a SOURCE: in a version for each value, as `KEY=VALUE,VALUE…`, where KEY is image, features.FEATURE.OPTION, build.args.NAME or containerEnv.NAME; again for all combinations"),
		site:     f.String("site", "", "with -each: the site (default: the plan chooses)"),
		ref:      f.String("ref", "", "with -each: branch, tag or commit"),
		file:     f.String("file", "", "with -each: the definition, where there are several"),
		size:     f.String("size", "", "with -each: a size of the site"),
		together: f.Int("together", 4, "with -each: how many are made at the same time"),
		keep:     f.Bool("keep", false, "with -each: do not remove the workspaces at the end"),
		asJSON:   f.Bool("json", false, "with -each: print JSON"),
	}
}

// alone refuses the flags that count with -each only.
func (e *eachRun) alone(f *flag.FlagSet) (err error) {
	f.Visit(func(x *flag.Flag) { err = wrongUse("-%s needs -each", x.Name) })
	return err
}

// variant is one version of the environment, and what the command did in it.
type variant struct {
	Vary      []string `json:"vary"`
	Workspace string   `json:"workspace"`
	// Status is the command's exit status; nil: it did not run, and Problem says why.
	Status  *int   `json:"status"`
	Problem string `json:"problem,omitempty"`
	// ReadyMillis is how long the workspace took until it was ready, Millis how long the command ran.
	ReadyMillis int64  `json:"readyMillis"`
	Millis      int64  `json:"millis"`
	Output      string `json:"output"`        // standard output and error, as they came
	Cut         bool   `json:"cut,omitempty"` // there was more output
}

func (v *variant) name() string { return strings.Join(v.Vary, " ") }

// variants are all combinations of the values.
func variants(each []string, source string) (list []*variant, err error) {
	list = []*variant{{}}
	for _, e := range each {
		key, values, _ := strings.Cut(e, "=")
		var wider []*variant
		seen := map[string]bool{}
		for value := range strings.SplitSeq(values, ",") {
			if value = strings.TrimSpace(value); value == "" || seen[value] {
				continue
			}
			seen[value] = true
			for _, v := range list {
				wider = append(wider, &variant{Vary: append(append([]string{}, v.Vary...), key+"="+value)})
			}
		}
		if list = wider; len(list) == 0 {
			return nil, wrongUse("-each %s names no value", e)
		}
		if len(list) > mostVersions {
			return nil, wrongUse("these are more than %d versions; leave some out", mostVersions)
		}
	}
	base, mark := versionsName(source), rand.IntN(36*36*36)
	for i, v := range list {
		v.Workspace = fmt.Sprintf("%s-v%03x-%d", base, mark, i+1)
	}
	return list, nil
}

var noName = regexp.MustCompile(`[^a-z0-9]+`)

// versionsName is what the workspaces of several versions begin with.
func versionsName(source string) string {
	name := strings.TrimSuffix(path.Base(strings.TrimRight(source, "/")), ".git")
	name = strings.Trim(noName.ReplaceAllString(strings.ToLower(name), "-"), "-0123456789")
	if name == "" {
		return "version"
	}
	return strings.TrimRight(name[:min(len(name), 24)], "-")
}

func (e *eachRun) run(ctx context.Context, t *terminal, c *client.Service, source, line string) error {
	list, err := variants(*e.each, source)
	if err != nil {
		return err
	}
	if *e.together < 1 {
		return wrongUse("-together is at least 1")
	}
	e.freed = make(chan struct{}, len(list))
	var saying sync.Mutex
	e.say = func(format string, args ...any) {
		saying.Lock()
		defer saying.Unlock()
		fmt.Fprintf(t.err, format+"\n", args...)
	}
	places := make(chan struct{}, *e.together)
	var all sync.WaitGroup
	for _, v := range list {
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			e.one(ctx, c, v, folderOr(source), line)
		})
	}
	all.Wait()
	if *e.asJSON {
		err = printJSON(t.out, list)
	} else {
		printVersions(t, list)
	}
	if err == nil {
		err = statusOf(list)
	}
	return err
}

// one makes one version, runs the command in it, and removes it.
func (e *eachRun) one(ctx context.Context, c *client.Service, v *variant, source, line string) {
	if ctx.Err() != nil {
		v.Problem = "you left before it was made"
		return
	}
	began := time.Now()
	defer func() {
		if !*e.keep {
			e.remove(ctx, c, v)
		}
	}()
	if err := e.make(ctx, c, v, source); err != nil {
		v.Problem = err.Error()
		e.say("%s: could not be made: %v", v.name(), err)
		return
	}
	v.ReadyMillis = time.Since(began).Milliseconds()
	e.say("%s: ready after %s", v.name(), seconds(time.Since(began)))
	began = time.Now()
	status, err := v.execute(ctx, c, line)
	v.Millis = time.Since(began).Milliseconds()
	if err != nil {
		v.Problem = err.Error()
		e.say("%s: %v", v.name(), err)
		return
	}
	v.Status = &status
	e.say("%s: exit status %d after %s", v.name(), status, seconds(time.Since(began)))
}

// make makes the workspace. Where there is no room it waits until another version is gone.
func (e *eachRun) make(ctx context.Context, c *client.Service, v *variant, source string) error {
	vary := client.Variations(v.Vary)
	for {
		e.hold(1)
		w, err := client.Answer[client.Workspace](c.Provision(ctx, client.ProvisionRequest{Source: source, Name: &v.Workspace, Ref: given(*e.ref), File: given(*e.file), Site: given(*e.site), Size: given(*e.size), Vary: &vary}))
		if err != nil {
			return err
		}
		r, err := ended(ctx, c, w.Run.Id)
		if err != nil {
			return err
		}
		if r.State == client.RunStateDone {
			return nil
		}
		if !lacksRoom(r) {
			return outcome(r)
		}
		e.hold(-1) // it has none
		if !e.waitForRoom(ctx) {
			e.hold(1)
			return outcome(r)
		}
		e.say("%s: waited for room, and is tried again", v.name())
	}
}

func (e *eachRun) hold(n int) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.holding += n
}

// waitForRoom waits until another version is gone; false where there is none to wait for.
func (e *eachRun) waitForRoom(ctx context.Context) bool {
	e.mu.Lock()
	others := e.holding
	e.mu.Unlock()
	if others == 0 || *e.keep {
		return false
	}
	select {
	case <-e.freed:
		return true
	case <-ctx.Done():
		return false
	}
}

func lacksRoom(r client.Run) bool {
	for _, s := range r.Steps {
		if s.State == client.StepStateFailed && text(s.Code) == "no-room" {
			return true
		}
	}
	return false
}

// ended waits for the end of a run.
func ended(ctx context.Context, c *client.Service, run int64) (client.Run, error) {
	look := time.NewTicker(redrawEvery)
	defer look.Stop()
	for {
		r, err := client.Answer[client.Run](c.GetRun(ctx, run))
		if err != nil {
			return r, err
		}
		if r.State == client.RunStateDone || r.State == client.RunStateFailed {
			return r, nil
		}
		select {
		case <-ctx.Done():
			return r, ctx.Err()
		case <-look.C:
		}
	}
}

// remove removes the workspace, also when the person has left.
func (e *eachRun) remove(ctx context.Context, c *client.Service, v *variant) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), removeLimit)
	defer cancel()
	w, err := client.Answer[client.Workspace](c.RemoveWorkspace(ctx, v.Workspace))
	if err == nil && w.Run != nil {
		_, err = ended(ctx, c, w.Run.Id)
	}
	if code := fault.Code(err); err != nil && code != "no-workspace" && code != "not-found" {
		e.say("%s: it could not be removed: %v. %s", v.name(), err, fault.ToDo("domicile remove "+v.Workspace))
	}
	e.hold(-1)
	select {
	case e.freed <- struct{}{}:
	default: // nobody waits
	}
}

// execute runs the command and keeps what it prints.
func (v *variant) execute(ctx context.Context, c *client.Service, line string) (status int, err error) {
	conn, err := c.SSH(ctx, v.Workspace)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	session, err := conn.NewSession()
	if err != nil {
		return 0, fmt.Errorf("open a session: %w", err)
	}
	defer session.Close()
	out := &beginning{}
	session.Stdout, session.Stderr = out, out
	err = session.Run(line)
	v.Output, v.Cut = out.String(), out.more
	var exit *ssh.ExitError
	switch {
	case ctx.Err() != nil:
		return 0, errors.New("you left before it ended")
	case errors.As(err, &exit) && exit.Signal() != "":
		return endedBySignal, nil
	case errors.As(err, &exit):
		return exit.ExitStatus(), nil
	case err != nil:
		return 0, fmt.Errorf("the connection broke before the command ended: %w", err)
	}
	return 0, nil
}

// beginning keeps the beginning of what is written to it, from several sides.
type beginning struct {
	mu   sync.Mutex
	text strings.Builder
	more bool
}

func (b *beginning) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	room := mostKept - b.text.Len()
	if len(p) > room {
		b.more = true
	}
	b.text.Write(p[:min(len(p), max(room, 0))])
	return len(p), nil
}

func (b *beginning) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.String()
}

// statusOf is the first exit status that is not 0; 1 where a version could not be tried.
func statusOf(list []*variant) error {
	for _, v := range list {
		switch {
		case v.Status == nil:
			return exitStatus(1)
		case *v.Status != 0:
			return exitStatus(*v.Status)
		}
	}
	return nil
}

// printVersions prints the table, and below it what the command printed, once where several
// printed the same.
func printVersions(t *terminal, list []*variant) {
	table := newTable(t.out)
	table.row("VERSION", "STATUS", "READY AFTER", "RAN", "LAST LINE")
	for _, v := range list {
		if v.Status == nil {
			table.row(v.name(), "-", "-", "-", "could not be tried")
			continue
		}
		table.row(v.name(), fmt.Sprint(*v.Status), seconds(time.Duration(v.ReadyMillis)*time.Millisecond), seconds(time.Duration(v.Millis)*time.Millisecond), orDash(lastLineOf(v.Output)))
	}
	table.flush()
	var order []string
	names := map[string][]string{}
	for _, v := range list {
		if v.Status == nil {
			fmt.Fprintf(t.out, "\n== %s\n%s\n", v.name(), v.Problem)
			continue
		}
		if names[v.Output] == nil {
			order = append(order, v.Output)
		}
		names[v.Output] = append(names[v.Output], v.name())
	}
	if len(order) == 1 && len(names[order[0]]) == len(list) && len(list) > 1 {
		names[order[0]] = []string{"all"}
	}
	for _, output := range order {
		fmt.Fprintf(t.out, "\n== %s\n", strings.Join(names[output], ", "))
		if output != "" {
			fmt.Fprintln(t.out, strings.TrimRight(output, "\n"))
		}
	}
}

func lastLineOf(output string) string {
	lines := strings.Split(strings.TrimSpace(output), "\n")
	line := strings.TrimSpace(lines[len(lines)-1])
	if r := []rune(line); len(r) > 60 {
		return string(r[:59]) + "…"
	}
	return line
}
