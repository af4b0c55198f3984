package agent

import (
	"errors"
	"net"
	"syscall"
	"time"
)

// Unreached is the exit status of "reach" where nothing answers.
const Unreached = 7

// reachLimit is how long an answer is waited for: networks are on one machine.
const reachLimit = 2 * time.Second

// Reaches tells whether there is somebody at a TCP address: that nobody listens is an
// answer too.
func Reaches(address string) bool {
	conn, err := net.DialTimeout("tcp", address, reachLimit)
	if err == nil {
		conn.Close()
	}
	return err == nil || errors.Is(err, syscall.ECONNREFUSED)
}
