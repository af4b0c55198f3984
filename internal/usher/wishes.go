package usher

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"
	"time"

	"domicile/internal/fault"
	"domicile/internal/wish"
)

// grant does what a program of a workspace wishes, where the person allows it.
func (u *Usher) grant(ctx context.Context, workspace string, w wish.Wish, say func(string)) (wish.Word, error) {
	if err := u.able(w.Kind); err != nil {
		return wish.Word{}, err
	}
	if err := u.allowed(ctx, Question{Workspace: workspace, Kind: w.Kind, Subject: w.Subject(), Text: w.Says()}, say); err != nil {
		return wish.Word{}, err
	}
	if w.Kind != wish.Git && !u.mayDo(workspace) {
		return wish.Word{}, fault.New("slowed-down", "wait a moment", "more is asked for than the usher does at a time")
	}
	m := u.o.Machine
	switch w.Kind {
	case wish.Open:
		return wish.Word{}, u.openAddress(ctx, workspace, w.Address, say)
	case wish.Edit:
		return wish.Word{}, m.Edit(ctx, workspace, w.Path)
	case wish.Show:
		return wish.Word{}, m.Show(ctx, (&url.URL{Scheme: "sftp", Host: AddressOf(workspace, u.o.Suffix), Path: w.Path}).String())
	case wish.Copy:
		return wish.Word{}, m.Copy(ctx, w.Text)
	case wish.Tell:
		u.mu.Lock()
		u.say(workspace, "tell "+w.Text, workspace+": "+w.Text)
		u.mu.Unlock()
		if m.Tell != nil {
			return wish.Word{}, m.Tell(ctx, workspace, w.Text)
		}
		return wish.Word{}, nil
	case wish.Git:
		answer, err := m.SignIn(ctx, w.GitAsks())
		if err != nil {
			return wish.Word{}, err
		}
		user, password, err := wish.ReadSignIn(strings.NewReader(answer))
		return wish.Word{User: user, Password: password}, err
	}
	return wish.Word{}, fault.New("bad-wish", "", "it knows no wish %q", w.Kind)
}

// mayDo bounds what a workspace has done at this machine, also where the person allows it always: whoever
// is inside can ask for one page after the other.
func (u *Usher) mayDo(workspace string) bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.paceOf(workspace).deeds.Allow()
}

// able tells whether something can be done at this machine at all.
func (u *Usher) able(kind wish.Kind) error {
	m := u.o.Machine
	can := map[wish.Kind]bool{wish.Open: m.Browse != nil, wish.Edit: m.Edit != nil, wish.Show: m.Show != nil, wish.Copy: m.Copy != nil, wish.Tell: true, wish.Git: m.SignIn != nil}
	if !can[kind] {
		return fault.New("usher-cannot", "", "the usher at the person's machine does not do that")
	}
	return nil
}

// openLimit is how long a port is waited for that an address leads to: a program that has just begun
// to listen is noticed within a second.
const openLimit = 3 * time.Second

// openAddress opens an address in the browser. One that means the workspace itself leads to where its
// port is here, and a page that sends the browser back to the workspace finds it.
func (u *Usher) openAddress(ctx context.Context, workspace, text string, say func(string)) error {
	address, err := wish.Address(text)
	if err != nil {
		return err
	}
	if wish.IsLoopback(address.Hostname()) {
		port, err := strconv.Atoi(wish.PortOf(address))
		if err != nil {
			return fault.New("bad-address", "", "%q is no port", address.Port())
		}
		here, err := u.portHere(ctx, workspace, port)
		if err != nil {
			return err
		}
		address.Host = net.JoinHostPort("localhost", strconv.Itoa(here))
	}
	for _, port := range wish.ComesBack(address) {
		here, err := u.portHere(ctx, workspace, port)
		if err == nil && here != port {
			err = fmt.Errorf("port %d of %s is at %d here, for another program has that number", port, workspace, here)
		}
		if err != nil {
			say("the page will not find its way back: " + err.Error())
		}
	}
	return u.o.Machine.Browse(ctx, address.String())
}

// portHere is where a port of a workspace is at this machine. One that is not there yet is waited for.
func (u *Usher) portHere(ctx context.Context, workspace string, port int) (int, error) {
	ctx, cancel := context.WithTimeout(ctx, openLimit)
	defer cancel()
	want := Want{Workspace: workspace, Target: net.JoinHostPort("localhost", strconv.Itoa(port)), Port: port}
	for {
		u.mu.Lock()
		d, moved := u.doors[want.key()], u.moved
		taken, refused := u.refused[want.key()]
		u.mu.Unlock()
		switch {
		case d != nil:
			return d.port, nil
		case refused:
			return 0, fault.New("usher-cannot", "free that port at the machine you sit at", "%s", notHere(want, taken))
		}
		select {
		case <-moved:
		case <-ctx.Done():
			return 0, fault.New("nobody-listens", "start the program that serves it, then open it", "nothing listens at port %d of %s", port, workspace)
		}
	}
}

// refusal is an error as a program inside is told.
func refusal(err error) wish.Word {
	return wish.Word{Error: err.Error(), Code: fault.Code(err), Remedy: fault.Remedy(err)}
}
