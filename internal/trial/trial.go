// Package trial tries the ways into a workspace from the person's own machine, step by step, and
// says at which step one fails, why, and what to do. An address that does not work is never shown as
// one that does.
package trial

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/client"
	"domicile/internal/fault"
)

// Step is one on a way.
type Step struct {
	Name   string  `json:"name"`
	Fine   bool    `json:"fine"`
	Found  string  `json:"found"` // what was found, or why it fails
	Remedy string  `json:"remedy,omitempty"`
	Took   float64 `json:"took"` // seconds
}

// Way is one way in.
type Way struct {
	Name  string `json:"name"`
	Line  string `json:"line"` // what is typed, or given to an editor
	Works bool   `json:"works"`
	Steps []Step `json:"steps"`
}

// Service is what a trial asks of the service.
type Service interface {
	Ways(ctx context.Context, workspace string) (client.Ways, error)
	Keys(ctx context.Context) ([]client.Key, error)
	// SSH opens a connection through the service's own address.
	SSH(ctx context.Context, workspace string) (*ssh.Client, error)
}

// Options says what is tried.
type Options struct {
	Service   Service
	URL       string // the service's address
	Workspace string
	Keys      Keys
	// Address is what the usher has told ssh, such as timetable.domicile; empty: there is none.
	Address string
	// Settings is the file in which it did; empty: the usual one.
	Settings string
}

// Report is all that was tried.
type Report struct {
	Workspace string      `json:"workspace"`
	Ways      []Way       `json:"ways"`
	Before    []Step      `json:"before"` // what all ways need
	Known     client.Ways `json:"known"`
}

// limit bounds each step.
const limit = 15 * time.Second

// clockMost is how far the clocks may be apart: signatures that hold for a time fail beyond.
const clockMost = 2 * time.Minute

// Run tries all ways.
func Run(ctx context.Context, o Options) (Report, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	begun := time.Now()
	known, err := o.Service.Ways(ctx, o.Workspace)
	if err != nil {
		return Report{}, err
	}
	took := time.Since(begun)
	r := Report{Workspace: o.Workspace, Known: known, Before: []Step{{Name: "the service answers", Fine: true, Found: "at " + o.URL, Took: took.Seconds()}, clock(known.Clock, begun, took)}}
	fine := true
	hasKey := true
	for _, s := range known.Steps {
		step := Step{Name: s.Name, Fine: s.Fine, Found: s.Found, Remedy: value(s.Remedy), Took: float64(value(s.Took))}
		switch s.Name {
		case "the workspace runs", "its agent answers":
			fine = fine && s.Fine
			r.Before = append(r.Before, step)
		case "you have a key":
			hasKey = s.Fine
		}
	}
	if !fine {
		return r, nil
	}
	if o.Address != "" {
		r.Ways = append(r.Ways, o.byAddress(ctx))
	}
	r.Ways = append(r.Ways, o.byPort(ctx, known, hasKey), o.byService(ctx))
	return r, nil
}

func clock(theirs, begun time.Time, took time.Duration) Step {
	apart := theirs.Sub(begun.Add(took / 2)).Round(time.Second)
	s := Step{Name: "the clocks agree", Fine: apart.Abs() <= clockMost, Found: fmt.Sprintf("within %d s", max(1, int(apart.Abs().Seconds())))}
	if !s.Fine {
		which := "behind"
		if apart < 0 {
			which = "ahead of"
		}
		s.Found = fmt.Sprintf("this machine's is %s %s the service's", apart.Abs(), which)
		s.Remedy = "set the clock: certificates and signatures hold for a time"
	}
	return s
}

// walk takes steps until one fails.
type walk struct {
	way Way
	ctx context.Context
}

func (w *walk) step(name string, try func(context.Context) (string, error)) bool {
	ctx, cancel := context.WithTimeout(w.ctx, limit)
	defer cancel()
	begun := time.Now()
	found, err := try(ctx)
	s := Step{Name: name, Fine: err == nil, Found: found, Took: time.Since(begun).Seconds()}
	if err != nil {
		s.Found, s.Remedy = err.Error(), fault.Remedy(err)
	}
	w.way.Steps = append(w.way.Steps, s)
	w.way.Works = err == nil
	return err == nil
}

// byAddress has the real client connect by what the usher has written.
func (o Options) byAddress(ctx context.Context) Way {
	w := &walk{ctx: ctx, way: Way{Name: "address", Line: "ssh " + o.Address}}
	_ = w.step("OpenSSH's client is there", func(context.Context) (string, error) {
		path, err := exec.LookPath("ssh")
		if err != nil {
			return "", fault.New("no-ssh-client", "install it: apt install openssh-client", "there is no ssh in PATH")
		}
		return path, nil
	}) && w.step("it connects, and asks nothing", func(ctx context.Context) (string, error) {
		args := []string{"-o", "BatchMode=yes", "-o", "ConnectTimeout=10", o.Address, "exit 0"}
		if o.Settings != "" {
			args = append([]string{"-F", o.Settings}, args...)
		}
		c := exec.CommandContext(ctx, "ssh", args...)
		var said bytes.Buffer
		c.Stderr = &said
		if err := c.Run(); err != nil {
			return "", fault.Wrap(err, "ssh-failed", "domicile usher -status", "%s", strings.TrimSpace(said.String()))
		}
		return "a session ended with status 0", nil
	})
	return w.way
}

// byService goes by the service's own address, with the sign-in of the command line.
func (o Options) byService(ctx context.Context) Way {
	w := &walk{ctx: ctx, way: Way{Name: "service", Line: "domicile shell " + o.Workspace}}
	var c *ssh.Client
	_ = w.step("SSH through "+o.URL, func(ctx context.Context) (_ string, err error) {
		if c, err = o.Service.SSH(ctx, o.Workspace); err != nil {
			return "", err
		}
		return "the known host key answers", nil
	}) && w.step("a session", func(ctx context.Context) (string, error) { return session(ctx, c) })
	if c != nil {
		c.Close()
	}
	return w.way
}

// errHostKey is that another key is shown than the service says.
var errHostKey = errors.New("another host key")

// byPort goes to the SSH server's port, with the person's own key.
func (o Options) byPort(ctx context.Context, known client.Ways, hasKey bool) Way {
	at := net.JoinHostPort(known.Host, strconv.Itoa(known.Port))
	w := &walk{ctx: ctx, way: Way{Name: "port", Line: fmt.Sprintf("ssh -p %d %s@%s", known.Port, known.User, known.Host)}}
	var conn net.Conn
	var signers []ssh.Signer
	var c *ssh.Client
	shown := ""
	_ = w.step("port "+at+" answers", func(ctx context.Context) (_ string, err error) {
		if conn, err = (&net.Dialer{}).DialContext(ctx, "tcp", at); err != nil {
			return "", fault.Wrap(err, "port-closed", "go through the service's own address: domicile usher, or domicile shell "+o.Workspace, "nobody answers from here; something between may close it")
		}
		return "from " + conn.LocalAddr().String(), nil
	}) && w.step("a key of yours is at this machine and known", func(ctx context.Context) (string, error) {
		defer func() {
			if signers == nil {
				conn.Close()
			}
		}()
		if !hasKey {
			return "", fault.New("no-key", "domicile keys add FILE.pub", "the service knows no key of yours")
		}
		registered, err := o.Service.Keys(ctx)
		if err != nil {
			return "", err
		}
		var name string
		signers, name, err = o.Keys.known(w.ctx, registered) // the SSH agent is asked to sign later on
		return name, err
	}) && w.step("it signs you in, and the known host key answers", func(ctx context.Context) (string, error) {
		stop := context.AfterFunc(ctx, func() { conn.Close() })
		defer stop()
		sc, channels, requests, err := ssh.NewClientConn(conn, at, &ssh.ClientConfig{User: known.User, Auth: []ssh.AuthMethod{ssh.PublicKeys(signers...)}, HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if shown = ssh.FingerprintSHA256(key); shown != known.Fingerprint {
				return errHostKey
			}
			return nil
		}, HostKeyAlgorithms: algorithms(known.HostKey)})
		switch {
		case err == nil:
			c = ssh.NewClient(sc, channels, requests)
			return shown, nil
		case shown != "" && shown != known.Fingerprint:
			return "", fault.New("host-key-changed", "do not go on; ask who runs the service", "%s shows %s, and the service says %s: somebody else answers there", at, shown, known.Fingerprint)
		case shown == "":
			return "", fault.Wrap(err, "not-ssh", "something between may answer in its place; go through the service's own address: domicile shell "+o.Workspace, "who answers there does not speak SSH to the end")
		}
		return "", fault.Wrap(err, "not-let-in", "domicile keys lists those that are known", "the key is not taken")
	}) && w.step("a session", func(ctx context.Context) (string, error) { return session(ctx, c) }) && o.byOpenSSH(w, known)
	if c != nil {
		c.Close()
	}
	return w.way
}

// byOpenSSH has the real client do the same, which has its own opinion of the rights of files, and settings that may
// name another key for the host. Where it is not installed nothing is tried.
func (o Options) byOpenSSH(w *walk, known client.Ways) bool {
	program, err := exec.LookPath("ssh")
	if err != nil {
		return true
	}
	return w.step("OpenSSH's client does it too", func(ctx context.Context) (string, error) {
		folder, err := os.MkdirTemp("", "domicile-trial-")
		if err != nil {
			return "", fmt.Errorf("make a folder for the known host key: %w", err)
		}
		defer os.RemoveAll(folder)
		hosts := filepath.Join(folder, "known_hosts")
		line := fmt.Sprintf("[%s]:%d %s\n", known.Host, known.Port, strings.TrimSpace(known.HostKey))
		if known.Port == 22 {
			line = known.Host + " " + strings.TrimSpace(known.HostKey) + "\n"
		}
		if err := os.WriteFile(hosts, []byte(line), 0o600); err != nil {
			return "", fmt.Errorf("write the known host key: %w", err)
		}
		args := []string{"-o", "BatchMode=yes", "-o", "ConnectTimeout=10", "-o", "StrictHostKeyChecking=yes", "-o", "UserKnownHostsFile=\"" + hosts + "\"", "-o", "GlobalKnownHostsFile=none", "-o", "UpdateHostKeys=no",
			"-p", strconv.Itoa(known.Port), known.User + "@" + known.Host, "exit 0"}
		if o.Settings != "" {
			args = append([]string{"-F", o.Settings}, args...)
		}
		c := exec.CommandContext(ctx, program, args...)
		c.Env = append(os.Environ(), "SSH_AUTH_SOCK="+o.Keys.Agent)
		var said bytes.Buffer
		c.Stderr = &said
		if err := c.Run(); err != nil {
			return "", fault.Wrap(err, "ssh-failed", "ssh -v -p "+strconv.Itoa(known.Port)+" "+known.User+"@"+known.Host, "%s", strings.Join(strings.Fields(said.String()), " "))
		}
		return "with your settings of ssh", nil
	})
}

// algorithms are those of a known host key alone: a server may have others too.
func algorithms(line string) []string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return nil
	}
	if key.Type() == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSASHA512}
	}
	return []string{key.Type()}
}

// session runs a command that does nothing.
func session(ctx context.Context, c *ssh.Client) (string, error) {
	defer context.AfterFunc(ctx, func() { c.Close() })()
	s, err := c.NewSession()
	if err != nil {
		return "", fmt.Errorf("it is not opened: %w", err)
	}
	defer s.Close()
	var said bytes.Buffer
	s.Stderr = &said
	if err := s.Run("exit 0"); err != nil {
		if ctx.Err() != nil {
			return "", fault.New("session-failed", "stop and start the workspace", "it is opened, and then nothing comes for %s", limit)
		}
		return "", fault.Wrap(err, "session-failed", "", "%s", strings.TrimSpace(said.String()))
	}
	return "a command ended with status 0", nil
}

func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}
