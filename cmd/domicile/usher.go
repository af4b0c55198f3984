package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/client"
	"domicile/internal/fault"
	"domicile/internal/usher"
)

var usherCommand = command{
	name: "usher", args: "[allow | ask | refuse NAME KIND [SUBJECT] | forget NAME] [-suffix NAME] [-own-ports LIST] [-status | -install | -uninstall] [-json]", summary: "Keep addresses and ports of your workspaces at this machine, until Ctrl-C",
	example: "domicile usher\nssh timetable.domicile\ndomicile usher -status\ndomicile usher allow timetable open",
	takes:   anything,
	alone:   true, // what it does is told also to who is signed out
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		suffix := f.String("suffix", usualSuffix, "what follows a workspace's name in its address")
		status := f.Bool("status", false, "tell what the usher of this machine does")
		install := f.Bool("install", false, "have systemd keep it at work for you, now and at each sign-in to this machine")
		uninstall := f.Bool("uninstall", false, "take the usher's line out of ssh's settings, and its files away")
		settings := f.String("ssh-config", "", "ssh's settings of yours (default: .ssh/config in the home folder)")
		quiet := f.Bool("quiet", false, "open nothing in a browser")
		own := f.String("own-ports", "", "ports of usual servers, such as 5432, that workspaces may have at the same number here, with commas between (default: another number, unless the definition names the port)")
		return func(ctx context.Context, t *terminal, _ *client.Service, args []string) error {
			h, err := hallOf(*settings, *suffix)
			if err != nil {
				return err
			}
			switch {
			case len(args) > 0:
				return h.decide(ctx, t, args)
			case *status:
				s, err := h.status(ctx)
				return present(t, *asJSON, s, err, func(s usher.Status) { printUsher(t, s) })
			case *install:
				return h.install(ctx, t)
			case *uninstall:
				return h.uninstall(ctx, t)
			}
			c, err := service()
			if err != nil {
				return err
			}
			numbers, err := portNumbers(*own)
			if err != nil {
				return err
			}
			return h.keep(ctx, t, c, *quiet, numbers)
		}
	},
}

// portNumbers reads ports with commas between.
func portNumbers(text string) (list []int, err error) {
	for part := range strings.SplitSeq(text, ",") {
		if part = strings.TrimSpace(part); part == "" {
			continue
		}
		n, err := strconv.Atoi(part)
		if err != nil || n < 1 || n > 65535 {
			return nil, wrongUse("%q is not a port", part)
		}
		list = append(list, n)
	}
	return list, nil
}

// usualSuffix makes "ssh timetable.domicile".
const usualSuffix = "domicile"

// hall is where the usher of an account has its files.
type hall struct {
	folder string
	login  string // the file with the sign-in
	ssh    usher.Settings
	// elsewhere says that ssh's settings are not below HOME; empty: they are.
	elsewhere string
}

func hallOf(settings, suffix string) (*hall, error) {
	login, err := signInFile()
	if err != nil {
		return nil, err
	}
	if login, err = filepath.Abs(login); err != nil {
		return nil, fmt.Errorf("find the sign-in: %w", err)
	}
	h := &hall{login: login, folder: login + "-usher"}
	if filepath.Base(login) == "login.json" {
		h.folder = filepath.Join(filepath.Dir(login), "usher")
	}
	if settings == "" {
		home, err := sshHome()
		if err != nil {
			return nil, fmt.Errorf("find the home folder: %w", err)
		}
		settings = filepath.Join(home, ".ssh", "config")
		if said, err := os.UserHomeDir(); err == nil && said != home {
			h.elsewhere = fmt.Sprintf("HOME is %s, and ssh reads %s: the addresses are written there.", said, settings)
		}
	}
	me, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("find this program: %w", err)
	}
	h.ssh = usher.Settings{File: settings, Folder: h.folder, Suffix: suffix, System: runtime.GOOS, Pipe: []string{me, "pipe", "-login", login, "-suffix", suffix}}
	return h, nil
}

// socket is where the usher answers what it does. Only who has its folder may open it.
func (h *hall) socket() string { return filepath.Join(h.folder, "usher.sock") }

// keep is the usher.
func (h *hall) keep(ctx context.Context, t *terminal, c *client.Service, quiet bool, own []int) error {
	version, err := client.Answer[client.Version](c.GetVersion(ctx))
	if err != nil {
		return err
	}
	h.ssh.HostKey, h.ssh.HostAuthority = version.HostKey, version.HostAuthority
	if err := h.ssh.Write(); err != nil {
		return err
	}
	listener, err := h.listen(ctx)
	if err != nil {
		return err
	}
	defer listener.Close()
	if h.elsewhere != "" {
		fmt.Fprintln(t.err, h.elsewhere)
	}
	if err := h.ssh.Include(); err != nil {
		fmt.Fprintf(t.err, "domicile: %v\n%s\n", err, fault.ToDo(fault.Remedy(err)))
	}
	o := usher.Options{Service: asked{c}, Address: c.URL, Suffix: h.ssh.Suffix, Memory: filepath.Join(h.folder, "ports.json"), Decisions: filepath.Join(h.folder, "decisions.json"),
		Say: func(text string) { fmt.Fprintf(t.out, "%s  %s\n", time.Now().Format("15:04:05"), text) }, Machine: desktop(c, h.ssh.Suffix, quiet), OwnNumbers: own}
	hears := canHear(t)
	o.Machine.Ask = func(q usher.Question) { putQuestion(ctx, t, o, q, hears.Load()) }
	u, err := usher.New(o)
	if err != nil {
		return err
	}
	log.SetOutput(io.Discard) // the SSH agent's package says there what a workspace was refused
	if hears.Load() {
		go func() {
			hearAnswers(t, u)
			hears.Store(false)
		}()
	}
	debug.SetGCPercent(usherGarbage)
	settled := time.AfterFunc(usherSettles, debug.FreeOSMemory) // what the beginning took is not needed again
	defer settled.Stop()
	server := &http.Server{Handler: u, ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = server.Serve(listener) }()
	defer server.Close()
	fmt.Fprintf(t.out, "Your workspaces are at NAME.%s, such as \"ssh NAME.%s\"; what listens in them comes to this machine. Ctrl-C ends it.\n", h.ssh.Suffix, h.ssh.Suffix)
	return u.Serve(ctx)
}

const (
	// usherGarbage is how much garbage the usher keeps, in hundredths of what it uses: it runs on
	// people's own machines all day, and does little.
	usherGarbage = 25
	usherSettles = 5 * time.Second
)

// longestSocket is how long the path of a socket may be, in bytes (unix(7)); other systems take a few
// less.
const longestSocket = 103

// listen opens the usher's socket, which one alone can have.
func (h *hall) listen(ctx context.Context) (net.Listener, error) {
	if s, err := h.status(ctx); err == nil {
		return nil, fault.New("usher-there", "domicile usher -status", "an usher is at work for this account already, as process %d", s.Process)
	}
	if err := os.Remove(h.socket()); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("remove the socket of an earlier usher: %w", err)
	}
	if len(h.socket()) > longestSocket {
		return nil, fault.New("bad-path", "name a file with a shorter path in DOMICILE_LOGIN_FILE", "the path %s is too long for a socket", h.socket())
	}
	listener, err := (&net.ListenConfig{}).Listen(ctx, "unix", h.socket())
	if err != nil {
		return nil, fmt.Errorf("listen for who asks what the usher does: %w", err)
	}
	return listener, os.Chmod(h.socket(), 0o600)
}

// status asks the usher that is at work.
func (h *hall) status(ctx context.Context) (usher.Status, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://usher/", nil)
	if err != nil {
		return usher.Status{}, err
	}
	return h.answer(r)
}

// answer asks the usher that is at work.
func (h *hall) answer(r *http.Request) (usher.Status, error) {
	c := http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", h.socket())
	}}}
	answer, err := c.Do(r)
	if err != nil {
		return usher.Status{}, fault.New("no-usher", "domicile usher", "no usher is at work for this account at this machine")
	}
	return client.Answer[usher.Status](answer, nil)
}

func (h *hall) uninstall(ctx context.Context, t *terminal) error {
	if err := uninstallUnit(ctx); err != nil {
		return err
	}
	if s, err := h.status(ctx); err == nil {
		return fault.New("usher-there", fmt.Sprintf("end it first: kill %d", s.Process), "an usher is at work, as process %d", s.Process)
	}
	if err := h.ssh.Remove(); err != nil {
		return err
	}
	if err := os.RemoveAll(h.folder); err != nil {
		return fmt.Errorf("remove the usher's files: %w", err)
	}
	fmt.Fprintf(t.out, "%s is as it was before the usher.\n", h.ssh.File)
	return nil
}

func printUsher(t *terminal, s usher.Status) {
	link := "connected to " + s.Service
	if !s.Connected {
		link = "not connected to " + s.Service + ": " + s.Reason
	}
	fmt.Fprintf(t.out, "At work since %s, %s.\n\n", ago(s.Since), link)
	table := newTable(t.out)
	table.row("WORKSPACE", "STATE", "ADDRESS", "PORT", "LABEL", "HERE")
	for _, p := range s.Places {
		if len(p.Ports) == 0 {
			table.row(p.Name, p.State, p.Address, "-", "-", "-")
		}
		for _, x := range p.Ports {
			here := x.Local
			if here == "" {
				here = x.Reason
			}
			table.row(p.Name, p.State, p.Address, x.Port, orDash(x.Label), here)
		}
	}
	table.flush()
	printLent(t, s)
}

// asked is the service as the usher needs it.
type asked struct{ *client.Service }

// SSH opens a connection to a workspace.
func (a asked) SSH(ctx context.Context, workspace string) (*ssh.Client, error) {
	return a.Service.SSH(ctx, workspace)
}

// Workspaces lists those of the account, and their helpers.
func (a asked) Workspaces(ctx context.Context) ([]client.Workspace, error) {
	return client.Answer[[]client.Workspace](a.Service.ListWorkspaces(ctx, &client.ListWorkspacesParams{Helpers: new(true)}))
}

// Ports lists a workspace's.
func (a asked) Ports(ctx context.Context, workspace string) (client.Ports, error) {
	return client.Answer[client.Ports](a.Service.ListPorts(ctx, workspace, &client.ListPortsParams{}))
}

// Events tells of changes, of ports too.
func (a asked) Events(ctx context.Context, f func(client.Event)) error {
	return a.Service.Events(ctx, true, f)
}

// browse opens a web address in the person's browser. What the service says it is, is not taken for
// anything else than that.
func browse(ctx context.Context, address string) error {
	if err := checkWebAddress(address); err != nil {
		return err
	}
	return openLink(ctx, address)
}

// browseTicket opens a web address that lets its holder in.
func browseTicket(ctx context.Context, address string) error {
	if err := checkWebAddress(address); err != nil {
		return err
	}
	return openPrivately(ctx, address)
}

func checkWebAddress(address string) error {
	if u, err := url.Parse(address); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return fault.New("bad-address", "ask who runs the service", "%q is no web address", address)
	}
	return nil
}

// openLink opens a link with the program of its scheme: by what BROWSER names, or the desktop's own
// way.
func openLink(ctx context.Context, address string) error {
	program := slices.Clone(desktopFor(runtime.GOOS).open)
	if named := os.Getenv("BROWSER"); named != "" {
		program = []string{named}
	}
	if err := start(ctx, append(program, address)...); err != nil {
		return fault.Wrap(err, "no-browser", "name a program in BROWSER, or open it yourself: "+address, "no browser can be opened")
	}
	return nil
}
