package main

import (
	"os"
	"os/user"
	"runtime"
	"strconv"
)

// sshHome is the folder below which OpenSSH's client looks for .ssh: on Unix that of the password file, whatever HOME
// says.
func sshHome() (string, error) {
	if runtime.GOOS != "windows" {
		if u, err := user.LookupId(strconv.Itoa(os.Getuid())); err == nil && u.HomeDir != "" {
			return u.HomeDir, nil
		}
	}
	return os.UserHomeDir()
}
