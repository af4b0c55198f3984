//go:build linux && !client

package main

import (
	"os"

	"domicile/internal/apart"
)

// The commands of the service itself, which the client for laptops has not.
var (
	serviceCommands = []command{serveCommand, backupCommand, standinCommand}
	hiddenCommands  = []command{throughCommand}
	notHere         []string
)

// apartMain is what this program does where it is called to read untrusted text.
func apartMain() {
	if os.Args[0] == apart.Left {
		os.Exit(apart.Main())
	}
}
