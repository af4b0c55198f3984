//go:build linux && !client

package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/user"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/datafolder"
	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/postgres"
	runs "domicile/internal/run"
)

// attempt is one thing that is tried before the service is started.
type attempt struct {
	what string
	try  func(ctx context.Context) (found string, err error)
}

// errSome is that some of what was tried is wrong; it was told.
const errSome = exitStatus(1)

// tell tries all that the settings name, and tells what is wrong, each with its remedy.
func (s *settings) tell(ctx context.Context, t *terminal) error {
	wrong := false
	for _, x := range s.attempts() {
		found, err := x.try(ctx)
		if err == nil {
			fmt.Fprintf(t.out, "good   %-12s  %s\n", x.what, found)
			continue
		}
		wrong = true
		fmt.Fprintf(t.out, "wrong  %-12s  %v\n", x.what, err)
		if remedy := fault.ToDo(fault.Remedy(err)); remedy != "" {
			fmt.Fprintf(t.out, "       %-12s  %s\n", "", remedy)
		}
	}
	if wrong {
		return errSome
	}
	fmt.Fprintln(t.out, "The service can be started with this.")
	return nil
}

func (s *settings) attempts() []attempt {
	return []attempt{
		{"programs", func(context.Context) (string, error) { return "all that the service needs is installed", s.find() }},
		{"agent", func(context.Context) (string, error) { return s.agent, regularFile(s.agent) }},
		{"data", func(context.Context) (string, error) { return s.data, datafolder.Try(s.data, s.database == "") }},
		{"database", s.tryDatabase},
		{"engine", s.tryEngines},
		{"http", func(context.Context) (string, error) { return s.http, tryPort(s.http, "-http") }},
		{"ssh", func(context.Context) (string, error) { return s.ssh, tryPort(s.ssh, "-ssh") }},
		{"sizes", func(context.Context) (string, error) {
			sizes, err := plan.ParseSizes(s.sizes)
			if err == nil {
				_, err = plan.ChooseSize(sizes, s.size)
			}
			return s.sizes, err
		}},
		{"allow", func(context.Context) (string, error) {
			if _, err := runs.ParsePolicy(s.allow); err != nil {
				return "", fault.Wrap(err, "bad-config", "it knows "+strings.Join(judge.Allowances, ", "), "what -allow gives is not known")
			}
			return cmp.Or(s.allow, "nothing"), nil
		}},
		{"proxies", func(context.Context) (string, error) {
			_, err := s.trustedProxies()
			return cmp.Or(s.proxies, "loopback if -url is https, else none"), err
		}},
		{"outside", func(context.Context) (string, error) {
			_, err := judge.ParseOutside(s.outside)
			return cmp.Or(s.outside, "nothing"), err
		}},
		{"clock", func(context.Context) (string, error) { return time.Now().Format(time.RFC3339), tryClock(time.Now()) }},
	}
}

func regularFile(file string) error {
	info, err := os.Stat(file)
	if err == nil && !info.Mode().IsRegular() {
		err = errors.New("it is no file")
	}
	if err != nil {
		return fault.Wrap(err, "no-agent", "install it beside domicile, or name it with -agent", "the agent's program cannot be used")
	}
	return nil
}

func (s *settings) tryDatabase(ctx context.Context) (string, error) {
	if s.database == "" {
		at, err := postgres.Programs(ownDatabase(s.data))
		return "one of its own in the data folder, with " + at, err
	}
	ctx, cancel := context.WithTimeout(ctx, trialLimit)
	defer cancel()
	conn, err := pgx.Connect(ctx, s.database)
	if err != nil {
		return "", fault.Wrap(err, "no-database", "start PostgreSQL, or name another database", "the database does not answer")
	}
	defer conn.Close(context.WithoutCancel(ctx))
	return "it answers, at " + conn.Config().Host, nil
}

// trialLimit is how long one thing may take that is tried.
const trialLimit = 10 * time.Second

func (s *settings) tryEngines(ctx context.Context) (string, error) {
	if s.engine == "" && s.machines == "" {
		return "", fault.New("no-engine", "install one, or name one with -engine", "no container engine is named, and none was found that may be used")
	}
	given, err := s.given()
	if err != nil {
		return "", err
	}
	var names []string
	for _, v := range given {
		if scheme, at, _ := strings.Cut(v.Address, "://"); scheme == "unix" || scheme == "tcp" {
			conn, err := (&net.Dialer{Timeout: trialLimit}).DialContext(ctx, scheme, at)
			if err != nil {
				return "", fault.Wrap(err, "engine-unavailable", "start it, or name another with -engine", "the engine of %s does not answer", v.Name)
			}
			conn.Close()
		}
		names = append(names, v.Name+" at "+v.Address)
	}
	return strings.Join(names, ", "), nil
}

func tryPort(address, flagName string) error {
	l, err := listenAt(address, flagName)
	if err == nil {
		l.Close()
	}
	return err
}

// built is the year before which no clock that is right can be.
const built = 2025

// tryClock tells of a clock that cannot be right: certificates and sign-ins would seem to have ended, or
// not to have begun.
func tryClock(now time.Time) error {
	if now.Year() < built {
		return fault.New("wrong-clock", "set it (timedatectl set-ntp true)", "this machine's clock says %s", now.Format(time.DateOnly))
	}
	return nil
}

// warnOfClock tells of a clock that is behind what the records say has happened.
func warnOfClock(ctx context.Context, a *assembly, log *slog.Logger) error {
	now := time.Now()
	if err := tryClock(now); err != nil {
		return err
	}
	latest, err := a.store.LatestUse(ctx)
	if err != nil {
		return fmt.Errorf("read when the service was used last: %w", err)
	}
	if ahead := latest.Sub(now); ahead > time.Minute {
		log.Warn("this machine's clock is behind what the records say has happened: set it (timedatectl set-ntp true)", "clock", now.UTC().Format(time.RFC3339), "records", latest.UTC().Format(time.RFC3339))
	}
	return nil
}

// groupOf is the group of a file.
func groupOf(file string) string {
	info, err := os.Stat(file)
	if err != nil {
		return "docker"
	}
	id := strconv.FormatUint(uint64(info.Sys().(*syscall.Stat_t).Gid), 10)
	if g, err := user.LookupGroupId(id); err == nil {
		return g.Name
	}
	return id
}
