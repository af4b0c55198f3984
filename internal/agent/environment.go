package agent

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
)

// probeLimit bounds the probing of the user's shell: a start-up file that waits for an
// answer must not hold the workspace up.
const probeLimit = 15 * time.Second

// person is how programs run for the person: who, where, with which environment.
type person struct {
	account *account
	folder  string
	env     map[string]string
	guest   ssh.PublicKey // who may come as a guest; nil: nobody
	asked   wire.Session  // what the service said
}

// configure makes a person of what the service says, and probes the environment.
func (s *Server) configure(ctx context.Context, c wire.Session) (*person, wire.SessionReply) {
	p, reply := s.somebody(ctx, c)
	if p == nil {
		return nil, reply
	}
	var err error
	if c.GuestKey != "" {
		if p.guest, _, _, _, err = ssh.ParseAuthorizedKey([]byte(c.GuestKey)); err != nil {
			return nil, wire.SessionReply{Error: "the guests' key cannot be read: " + err.Error()}
		}
	}
	s.ownVolumes(p.account, c.Volumes)
	p.asked = c
	lent(p.env)
	return p, reply
}

// another makes the person who comes as another user of the instance. Nothing is lent to it.
func (s *Server) another(ctx context.Context, user string) (*person, error) {
	now, err := s.current()
	if err != nil {
		return nil, err
	}
	c := now.asked
	c.User = user
	p, reply := s.somebody(ctx, c)
	if p == nil {
		return nil, errors.New(reply.Error)
	}
	return p, nil
}

// somebody looks for the user and probes the environment.
func (s *Server) somebody(ctx context.Context, c wire.Session) (*person, wire.SessionReply) {
	a, err := lookupAccount(c.User)
	if err != nil {
		return nil, wire.SessionReply{Error: err.Error()}
	}
	p := &person{account: a, folder: c.Folder, env: environment(os.Environ())}
	p.env["HOME"], p.env["USER"], p.env["LOGNAME"], p.env["SHELL"] = a.home, a.name, a.name, a.shell
	if p.env["PATH"] == "" {
		p.env["PATH"] = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
	}
	if c.Workspace != "" {
		p.env["DOMICILE_WORKSPACE"] = c.Workspace
	}
	reply := wire.SessionReply{User: a.name, UID: a.uid, Home: a.home, Shell: a.shell}
	probed, err := s.probe(ctx, p, c.Probe)
	if err != nil {
		reply.Warning = fmt.Sprintf("the environment of %s could not be probed (%s): %v", a.shell, c.Probe, err)
	}
	path := p.env["PATH"]
	for name, value := range probed {
		p.env[name] = value
	}
	p.env["PATH"] = joinPath(path, p.env["PATH"], a.uid)
	for name, value := range c.Env {
		if value == nil {
			delete(p.env, name)
		} else {
			p.env[name] = *value
		}
	}
	return p, reply
}

// joinPath keeps the folders that the image and its features put into PATH: many systems'
// start-up files for login shells set it anew. What the shell ends with stays as it is;
// missing folders come before it, in their order, but for those of the superuser's
// programs, which are left out on purpose for others.
func joinPath(container, shell string, uid int) string {
	have := strings.Split(shell, ":")
	var missing []string
	for folder := range strings.SplitSeq(container, ":") {
		if folder == "" || slices.Contains(have, folder) || uid != 0 && strings.HasSuffix(strings.TrimSuffix(folder, "/"), "/sbin") {
			continue
		}
		missing = append(missing, folder)
	}
	return strings.Join(append(missing, have...), ":")
}

// probe runs the user's shell in the way that userEnvProbe names and reads the
// environment it ends with.
func (s *Server) probe(ctx context.Context, p *person, how string) (map[string]string, error) {
	flags := map[string]string{"loginShell": "-lc", "loginInteractiveShell": "-lic", "interactiveShell": "-ic"}[how]
	if flags == "" {
		return nil, nil
	}
	ctx, cancel := context.WithTimeout(ctx, probeLimit)
	defer cancel()
	out, w, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	null, err := os.OpenFile(os.DevNull, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	defer null.Close()
	child, err := s.spawner.start(command{path: p.account.shell, user: p.account, folder: p.start(), env: list(p.env),
		args:  []string{p.account.shell, flags, "printf %s '" + environmentBegins + "'; cat /proc/self/environ; printf %s '" + environmentEnds + "'"},
		files: []*os.File{null, w, null}})
	w.Close()
	if err != nil {
		out.Close()
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() {
		child.signalGroup(syscall.SIGKILL)
		out.Close()
	})
	defer stop()
	b, err := io.ReadAll(io.LimitReader(out, 1<<20))
	out.Close()
	if ctx.Err() != nil {
		return nil, fmt.Errorf("the shell did not end within %s; does one of its start-up files wait for an answer?", probeLimit)
	}
	if err != nil {
		return nil, err
	}
	between, found := betweenMarks(b)
	if !found {
		return nil, fmt.Errorf("the shell ended before it printed its environment")
	}
	probed := environment(strings.Split(between, "\x00"))
	for _, name := range []string{"_", "PWD", "OLDPWD", "SHLVL"} { // the shell's own, of that moment
		delete(probed, name)
	}
	return probed, nil
}

// What stands before and after a printed environment: start-up files print too, before it and, from the background,
// after it.
const (
	environmentBegins = "domicile-environment-begins:"
	environmentEnds   = "domicile-environment-ends."
)

// betweenMarks is what stands between the marks of the last printed environment.
func betweenMarks(b []byte) (between string, found bool) {
	begin := bytes.LastIndex(b, []byte(environmentBegins))
	if begin < 0 {
		return "", false
	}
	inside, _, found := bytes.Cut(b[begin+len(environmentBegins):], []byte(environmentEnds))
	return string(inside), found
}

// start is the folder that programs start in: the workspace's, or where there is none, home.
func (p *person) start() string {
	for _, folder := range []string{p.folder, p.account.home} {
		if info, err := os.Stat(folder); err == nil && info.IsDir() {
			return folder
		}
	}
	return "/"
}

// home is where a path begins that names no folder.
func (p *person) home() string {
	if info, err := os.Stat(p.account.home); err == nil && info.IsDir() {
		return p.account.home
	}
	return p.start()
}

// with gives the environment with more variables over it.
func (p *person) with(more map[string]string) []string {
	env := make(map[string]string, len(p.env)+len(more))
	for k, v := range p.env {
		env[k] = v
	}
	for k, v := range more {
		env[k] = v
	}
	return list(env)
}

func environment(pairs []string) map[string]string {
	env := make(map[string]string, len(pairs))
	for _, pair := range pairs {
		if name, value, ok := strings.Cut(pair, "="); ok && name != "" {
			env[name] = value
		}
	}
	return env
}

func list(env map[string]string) []string {
	pairs := make([]string, 0, len(env))
	for name, value := range env {
		pairs = append(pairs, name+"="+value)
	}
	slices.Sort(pairs)
	return pairs
}

// shellName is argv[0] of an interactive shell that is no login shell: the environment
// was probed already, and a login shell would put the system's PATH over remoteEnv.
func (p *person) shellName() string { return filepath.Base(p.account.shell) }
