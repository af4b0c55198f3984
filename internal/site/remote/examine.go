package remote

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/site"
)

const (
	// mostSkew is how far a host's clock may be off: certificates and what is cached by time
	// go wrong beyond it.
	mostSkew = 30 * time.Second
	// examineLimit bounds how long all of it takes.
	examineLimit = time.Minute
	// mostSaid bounds what is taken of a host's answer.
	mostSaid = 200
)

// Examine looks at the host itself, beside its engine: the user and their rights, the clock, the
// processor, and the disk where the engine keeps its data. What a host says is a word of its own:
// it is shown, and nothing is done by it.
// A connection that breaks off ends it.
func (l *Line) Examine(ctx context.Context) (list site.Findings, err error) {
	ctx, cancel := context.WithTimeout(ctx, examineLimit)
	defer cancel()
	ask := func(command string) string {
		if err != nil {
			return ""
		}
		said, runErr := l.Run(ctx, command)
		var exit *ssh.ExitError
		if runErr != nil && !errors.As(runErr, &exit) {
			err = runErr
		}
		if len(said) > mostSaid {
			said = said[:mostSaid]
		}
		return said
	}
	add := list.Add
	user := ask("id -un")
	add("user", user, l.to.User, user == l.to.User, "give another address")
	rights := ask("test -w " + l.to.Socket + " && echo may use it || echo may not use it")
	add("the engine's socket", l.to.Socket+": "+rights, "may use it", rights == "may use it", fmt.Sprintf("on %s: usermod -aG docker %s, then wait until its sessions are over", l.to.Host, l.to.User))
	add("processor", ask("uname -m"), "", true, "")
	before := time.Now()
	clock := ask("date +%s")
	seconds, parseErr := strconv.ParseInt(clock, 10, 64)
	skew := time.Unix(seconds, 0).Sub(before.Add(time.Since(before) / 2)).Round(time.Second)
	if parseErr != nil {
		add("clock", "it says "+clock, "", false, "see what date prints there")
	} else {
		add("clock", fmt.Sprintf("%s off", skew), fmt.Sprintf("within %s", mostSkew), skew.Abs() <= mostSkew, "on the host: timedatectl set-ntp true")
	}
	data := "/var/lib/docker" // where engines keep it that are told nothing else
	if strings.HasSuffix(l.to.Socket, "podman.sock") {
		data = "/var/lib/containers"
	}
	for _, folder := range []string{data, "/"} {
		free, parseErr := strconv.ParseInt(strings.TrimSpace(ask("df -B1 --output=avail "+folder+" 2>/dev/null | tail -n 1")), 10, 64)
		if parseErr == nil {
			list.AddDisk("disk of "+folder, free, "free some, or give the engine another data folder (data-root)")
			break
		}
	}
	return list, err
}
