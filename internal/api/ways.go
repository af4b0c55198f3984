package api

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/fault"
	"domicile/internal/records"
)

// trialLimit bounds each step.
const trialLimit = 10 * time.Second

// TryWays tries the way into a workspace as far as the service can.
func (s *Server) TryWays(ctx context.Context, q TryWaysRequestObject) (TryWaysResponseObject, error) {
	w, err := s.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	host, number, err := s.sshAddress()
	if err != nil {
		return nil, err
	}
	keys := s.o.HostKeys.Now()
	key := keys.Present.PublicKey()
	v := TryWays200JSONResponse{Workspace: w.Name, Host: host, Port: number, User: w.Name, HostKey: keyLine(key), HostAuthority: keyLine(keys.Authority), Fingerprint: ssh.FingerprintSHA256(key), Clock: time.Now(), Steps: []TriedStep{}}
	if p, err := s.o.Runner.PlanOf(ctx, w); err == nil {
		v.Folder = optional(p.Session.Folder)
	}
	for _, step := range []struct {
		name string
		try  func(context.Context, records.Workspace) (string, error)
	}{
		{"the workspace runs", s.tryState}, {"its agent answers", s.tryAgent}, {"the SSH server answers", s.trySSH}, {"you have a key", s.tryKeys},
	} {
		limited, cancel := context.WithTimeout(ctx, trialLimit)
		begun := time.Now()
		found, err := step.try(limited, w)
		cancel()
		t := TriedStep{Name: step.name, Fine: err == nil, Found: found, Took: new(float32(time.Since(begun).Seconds()))}
		if err != nil {
			t.Found, t.Remedy = err.Error(), optional(fault.Remedy(err))
		}
		if v.Steps = append(v.Steps, t); err != nil {
			break
		}
	}
	return v, nil
}

// sshAddress is where people are told to connect to.
func (s *Server) sshAddress() (host string, port int, err error) {
	host, text, err := net.SplitHostPort(s.o.SSH)
	if err == nil {
		port, err = strconv.Atoi(text)
	}
	if err != nil {
		err = fmt.Errorf("read the SSH server's address: %w", err)
	}
	return host, port, err
}

func (s *Server) tryState(_ context.Context, w records.Workspace) (string, error) {
	switch w.State {
	case records.Ready:
		return "at " + w.Site, nil
	case records.Stopped:
		return "", fault.New("not-ready", "domicile start "+w.Name, "it is stopped")
	}
	why := "it is " + w.State
	if w.Reason != "" {
		why += ": " + w.Reason
	}
	return "", fault.New("not-ready", "domicile follow "+w.Name, "%s", why)
}

func (s *Server) tryAgent(ctx context.Context, w records.Workspace) (string, error) {
	link, err := s.o.Runner.Reach(ctx, w)
	if err != nil {
		if fault.Remedy(err) == "" {
			err = fault.Wrap(err, "agent-unreachable", fmt.Sprintf("domicile stop %s, then domicile start %s", w.Name, w.Name), "it does not")
		}
		return "", err
	}
	defer link.Close()
	hello, err := link.Quiet().Hello(ctx)
	return "version " + hello.Version, err
}

// trySSH asks the SSH server by the address that people are told.
func (s *Server) trySSH(ctx context.Context, _ records.Workspace) (string, error) {
	const remedy = "look at the flags -ssh and -ssh-address of domicile serve"
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", s.o.SSH)
	if err != nil {
		return "", fault.Wrap(err, "ssh-closed", remedy, "nobody answers at %s", s.o.SSH)
	}
	defer conn.Close()
	if limit, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(limit)
	}
	line, err := bufio.NewReaderSize(conn, 300).ReadString('\n')
	if err != nil || !strings.HasPrefix(line, "SSH-2.0-") {
		return "", fault.Wrap(errors.Join(err), "ssh-closed", remedy, "who answers at %s is no SSH server", s.o.SSH)
	}
	return "at " + s.o.SSH, nil
}

func (s *Server) tryKeys(ctx context.Context, w records.Workspace) (string, error) {
	keys, err := s.o.Store.Keys(ctx, w.Account)
	if err != nil {
		return "", err
	}
	if len(keys) == 0 {
		return "", fault.New("no-key", "domicile keys add FILE.pub; or domicile usher, which needs none", "no key of yours is known to the service")
	}
	return fmt.Sprintf("%d known", len(keys)), nil
}
