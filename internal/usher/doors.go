package usher

import (
	"context"
	"domicile/internal/listen"
	"domicile/internal/visible"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"syscall"
	"time"

	"al.essio.dev/pkg/shellescape"
	"golang.org/x/time/rate"

	"domicile/internal/client"
)

// open closes the ports that nobody wants any more, and opens those that are new.
func (u *Usher) open(ctx context.Context) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if ctx.Err() != nil {
		return // all is being closed
	}
	wants, said := u.wants()
	wanted := map[string]bool{}
	for _, w := range wants {
		wanted[w.key()] = true
	}
	held := map[string]int{}
	for key, d := range u.doors {
		if !wanted[key] {
			d.close()
			delete(u.doors, key)
			continue
		}
		held[key] = d.port
	}
	took, denied := map[string][]net.Listener{}, map[string]bool{}
	got, refused := assign(wants, held, u.memory.Ports, func(w Want, port int) bool {
		listeners, err := u.listenAt(ctx, port)
		if err == nil {
			took[w.key()] = listeners
		}
		denied[w.key()] = denied[w.key()] || port == w.Port && errors.Is(err, os.ErrPermission)
		return err == nil
	})
	for _, w := range wants {
		key := w.key()
		if listeners := took[key]; listeners != nil {
			if d := u.doors[key]; d != nil { // it had another number
				d.close()
			}
			u.doors[key] = u.serve(ctx, w, got[key], listeners)
			u.memory.note(w, got[key])
			u.announce(ctx, w, got[key], said[key], denied[key])
		}
		if taken, is := refused[key]; is {
			taken.Denied = denied[key]
			refused[key] = taken
			if _, known := u.refused[key]; !known {
				u.say(w.Workspace, key, notHere(w, taken))
			}
		}
	}
	u.refused = refused
	close(u.moved)
	u.moved = make(chan struct{})
	if err := u.memory.keep(); err != nil {
		u.say("", "memory", "which port was where cannot be kept: "+err.Error())
	}
}

// ListenAt listens on this machine's loopback, in both versions of IP where the machine has both: "localhost" means
// either. An error means that the port is taken in one of them, or that it needs more rights.
func ListenAt(ctx context.Context, port int) (list []net.Listener, err error) {
	var c net.ListenConfig
	for _, host := range []string{"127.0.0.1", "::1"} {
		l, err := c.Listen(ctx, "tcp", net.JoinHostPort(host, strconv.Itoa(port)))
		if err != nil {
			if len(list) == 0 {
				return nil, err
			}
			if errors.Is(err, syscall.EADDRINUSE) || errors.Is(err, os.ErrPermission) {
				list[0].Close()
				return nil, err
			}
			break // this machine has no IPv6
		}
		if port == 0 {
			port = l.Addr().(*net.TCPAddr).Port
		}
		list = append(list, l)
	}
	return list, nil
}

// elevation is what gives the usher the rights for ports below 1024, which only the person can.
func elevation(port int) string {
	program, err := os.Executable()
	if err != nil {
		program = "domicile"
	}
	return fmt.Sprintf("port %d wants more rights at this machine: sudo setcap cap_net_bind_service=+ep %s, and start the usher again", port, shellescape.Quote(program))
}

// serve joins who comes to a port of this machine to a workspace.
func (u *Usher) serve(ctx context.Context, w Want, port int, listeners []net.Listener) *door {
	line := u.places[w.Workspace].streams
	for _, l := range listeners {
		l := listen.Patient(l)
		go func() {
			for {
				near, err := l.Accept()
				if err != nil {
					return
				}
				go func() {
					if err := line.Join(ctx, near, w.Target); err != nil && ctx.Err() == nil {
						u.mu.Lock()
						defer u.mu.Unlock()
						u.say(w.Workspace, "join "+w.key(), fmt.Sprintf("%s: %v", w.Workspace, err))
					}
				}()
			}
		}()
	}
	return &door{want: w, port: port, close: func() {
		for _, l := range listeners {
			l.Close()
		}
	}}
}

// sayEvery is how often something is said of one port: one that comes and goes is no news.
const sayEvery = 10 * time.Second

// longestSaid is how long a line to the person may be, in characters: workspaces name what stands in it.
const longestSaid = 1000

// pace bounds what a workspace makes the usher say and open: whoever is inside can listen at one port
// after the other.
type pace struct{ words, browsers, deeds *rate.Limiter }

// mostDeeds is how many wishes of a workspace are granted in a row.
const mostDeeds = 20

// paceOf is that of a workspace. The caller holds the lock.
func (u *Usher) paceOf(workspace string) *pace {
	p := u.talk[workspace]
	if p == nil {
		p = &pace{words: rate.NewLimiter(rate.Every(5*time.Second), 30), browsers: rate.NewLimiter(rate.Every(time.Minute), 5), deeds: rate.NewLimiter(rate.Every(5*time.Second), mostDeeds)}
		u.talk[workspace] = p
	}
	return p
}

// say tells the person something about a port of a workspace. The caller holds the lock.
func (u *Usher) say(workspace, about, text string) {
	now := time.Now()
	if now.Sub(u.said[about]) < sayEvery || !u.paceOf(workspace).words.Allow() {
		return
	}
	if len(u.said) > 10_000 {
		clear(u.said)
	}
	u.said[about] = now
	u.o.Say(visible.Line(text, longestSaid))
}

func notHere(w Want, t Taken) string {
	who := "another program of this machine has that port"
	if t.Denied {
		who = elevation(w.Port)
	} else if t.By != "" {
		who = t.By + " has that port"
	}
	if w.Exact {
		return fmt.Sprintf("%s: port %d is not offered here: it must have the same number, and %s", w.Workspace, w.Port, who)
	}
	return fmt.Sprintf("%s: port %d is not offered here: no number is free for it", w.Workspace, w.Port)
}

// announce does what the definition says is to be done when a program begins to listen
// (onAutoForward): a notice where it says nothing.
func (u *Usher) announce(ctx context.Context, w Want, port int, p client.Port, denied bool) {
	what := client.Notify
	if p.OnAutoForward != nil {
		what = *p.OnAutoForward
	}
	if what == client.Silent {
		return
	}
	address := addressOf(p, port)
	name := "port " + p.Port
	if p.Label != nil && *p.Label != "" {
		name = fmt.Sprintf("%s (port %s)", visible.Line(*p.Label, longestLabel), p.Port)
	}
	text := fmt.Sprintf("%s: %s is at %s", w.Workspace, name, address)
	switch {
	case w.Elsewhere:
		text += fmt.Sprintf(" (port %d is that of a server which may run here; domicile usher -own-ports %d has it there)", w.Port, w.Port)
	case IsUsual(port):
		text += fmt.Sprintf("; a server of your own cannot have port %d meanwhile", port)
	}
	if denied && p.ElevateIfNeeded != nil && *p.ElevateIfNeeded {
		text += "; " + elevation(w.Port)
	}
	u.say(w.Workspace, w.key(), text)
	switch what {
	case client.OpenBrowser, client.OpenBrowserOnce, client.OpenPreview:
	default:
		return
	}
	if u.o.Machine.Browse == nil || p.Listener == nil || what == client.OpenBrowserOnce && u.memory.Opened[w.key()] || time.Since(u.said["browse "+w.key()]) < browseEvery || !u.paceOf(w.Workspace).browsers.Allow() {
		return
	}
	u.said["browse "+w.key()] = time.Now()
	u.memory.opened(w)
	if protocolOf(p) == "" {
		address = "http://" + address
	}
	go func() {
		if err := u.o.Machine.Browse(ctx, address); err != nil && ctx.Err() == nil {
			u.o.Say(fmt.Sprintf("%s cannot be opened in a browser: %v", address, err))
		}
	}()
}

// longestLabel is how much of a port's label is shown, in characters.
const longestLabel = 80

// browseEvery is how often a browser is opened for one port.
const browseEvery = time.Minute

// addressOf is where a port is at this machine.
func addressOf(p client.Port, port int) string {
	at := net.JoinHostPort("localhost", strconv.Itoa(port))
	if protocol := protocolOf(p); protocol != "" {
		return protocol + "://" + at
	}
	return at
}

// protocolOf is what a browser is told to speak; empty: it is not known. A definition's word is not
// taken for a scheme of another program's.
func protocolOf(p client.Port) string {
	if p.Protocol != nil && (*p.Protocol == "http" || *p.Protocol == "https") {
		return *p.Protocol
	}
	return ""
}
