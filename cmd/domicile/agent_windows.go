package main

import (
	"context"
	"net"
	"os"
	"strings"

	"github.com/Microsoft/go-winio"
)

// usualAgent is the pipe of the SSH agent that comes with the system.
const usualAgent = `\\.\pipe\openssh-ssh-agent`

// sshAgent reaches the person's SSH agent: the pipe that SSH_AUTH_SOCK names, else the system's. It is
// looked for when it is used.
func sshAgent() func(context.Context) (net.Conn, error) {
	pipe := os.Getenv("SSH_AUTH_SOCK")
	if !strings.HasPrefix(pipe, `\\.\pipe\`) {
		pipe = usualAgent
	}
	return func(ctx context.Context) (net.Conn, error) { return winio.DialPipeContext(ctx, pipe) }
}
