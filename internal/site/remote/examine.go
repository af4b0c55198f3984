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
		if runErr != nil && !exited(runErr) {
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
	if err != nil {
		return list, err
	}
	data := "/var/lib/docker" // where engines keep it that are told nothing else
	if strings.HasSuffix(l.to.Socket, "podman.sock") {
		data = "/var/lib/containers"
	}
	free, known, err := l.DiskFree(ctx, data)
	if known {
		list.AddDisk("disk of "+data, free, "free some, or give the engine another data folder (data-root)")
	}
	return list, err
}

// exited tells that a command ran and ended, whatever its status.
func exited(err error) bool {
	var exit *ssh.ExitError
	return errors.As(err, &exit)
}
