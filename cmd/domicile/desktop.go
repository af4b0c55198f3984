package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"html"
	"net/url"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"time"

	"domicile/internal/client"
	"domicile/internal/editor"
	"domicile/internal/fault"
	"domicile/internal/usher"
)

// desktopLimit is how long a program of the desktop may take.
const desktopLimit = 20 * time.Second

// signInLimit is longer: a helper of git's may ask the person.
const signInLimit = 2 * time.Minute

// desktop is what the usher may do at this machine.
func desktop(c *client.Service, suffix string, quiet bool) usher.Machine {
	m := usher.Machine{Copy: copyText, SignIn: gitSignIn,
		Edit: func(ctx context.Context, workspace, path string) error {
			return editHere(ctx, c, workspace, path, suffix)
		}}
	if !quiet {
		m.Browse = browse
	}
	here := desktopFor(runtime.GOOS)
	if here.screen() {
		m.Show = showFolder
		if len(here.notice) > 0 {
			if _, err := exec.LookPath(here.notice[0]); err == nil {
				m.Tell = here.tell
			}
		}
	}
	m.Keys = sshAgent()
	return m
}

func copyText(ctx context.Context, text string) error {
	c, is := desktopFor(runtime.GOOS).clipboardProgram()
	if !is {
		return fault.New("no-clipboard", "at the machine you sit at, install wl-clipboard, xclip or xsel, and run the usher in a session with a screen", "the usher finds no program for the clipboard")
	}
	_, err := ask(ctx, desktopLimit, c.encode(text), c.command...)
	return err
}

func (d desktopOf) tell(ctx context.Context, title, text string) error {
	if !d.plain {
		text = html.EscapeString(text) // a notice may have marks in it
	}
	_, err := ask(ctx, desktopLimit, "", append(slices.Clone(d.notice), title, text)...)
	return err
}

// showFolder opens sftp://HOST/PATH in the desktop's file manager.
func showFolder(ctx context.Context, address string) error {
	if u, err := url.Parse(address); err != nil || u.Scheme != "sftp" {
		return fault.New("bad-address", "", "%q is no folder of a workspace", address)
	}
	return startHere(ctx, append(slices.Clone(desktopFor(runtime.GOOS).open), address)...)
}

// gitSignIn asks git at this machine, and so the helpers of the person's own settings. Nobody is asked
// in this terminal.
func gitSignIn(ctx context.Context, input string) (string, error) {
	answer, err := ask(ctx, signInLimit, input, "git", "credential", "fill")
	if err != nil {
		return "", fault.Wrap(err, "no-sign-in", "sign in there once at the machine you sit at, with git and a credential.helper that keeps it", "git at the person's machine knows no sign-in there")
	}
	return answer, nil
}

// ask runs a program of this machine with an input and gives what it prints.
func ask(ctx context.Context, limit time.Duration, input string, command ...string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	c := exec.CommandContext(ctx, command[0], command[1:]...)
	c.Env = append(os.Environ(), "GIT_TERMINAL_PROMPT=0", "GIT_ASKPASS=false")
	c.WaitDelay = time.Second // one that stays, as xclip does, keeps the output open
	var out, said bytes.Buffer
	c.Stdin, c.Stdout, c.Stderr = strings.NewReader(input), &out, &said
	err := c.Run()
	if errors.Is(err, exec.ErrWaitDelay) {
		err = nil
	}
	if err != nil {
		return "", fmt.Errorf("%s: %w: %s", command[0], err, strings.TrimSpace(said.String()))
	}
	return out.String(), nil
}

// start starts a program that may stay, and outlives what started it.
func start(ctx context.Context, command ...string) error {
	c := exec.CommandContext(context.WithoutCancel(ctx), command[0], command[1:]...)
	if err := c.Start(); err != nil {
		return err
	}
	go func() { _ = c.Wait() }()
	return nil
}

// startHere starts a program for a workspace, whose person may not have it.
func startHere(ctx context.Context, command ...string) error {
	if err := start(ctx, command...); err != nil {
		return fault.Wrap(err, "no-program", "install it at the machine you sit at", "%s cannot be run at the person's machine", command[0])
	}
	return nil
}

// editHere opens a file or folder of a workspace in the editor that DOMICILE_EDITOR names, or, where it
// names none, in the one that is known, where there is one alone.
func editHere(ctx context.Context, c *client.Service, workspace, path, suffix string) error {
	name := os.Getenv("DOMICILE_EDITOR")
	e, err := editorHere(ctx, c, name)
	if err != nil {
		return err
	}
	at, err := placeOf(ctx, c, workspace, path, suffix)
	if err != nil {
		return err
	}
	if e.link != "" {
		link, err := editor.Link(e.link, at)
		if err != nil {
			return err
		}
		return openLink(ctx, link)
	}
	words, err := editor.Command(e.command, at)
	if err != nil {
		return err
	}
	return startHere(ctx, words...)
}
