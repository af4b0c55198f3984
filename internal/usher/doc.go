// Package usher is what Domicile does at the person's own machine, for all workspaces of the
// account and for as long as they exist: a file that OpenSSH's settings include, by which
// "ssh NAME.domicile" works with nothing to look up, and a port of this machine's loopback for each
// port at which a program listens in a running workspace.
//
// What comes from a workspace decides nothing here but which of its ports are offered: names and
// labels are shown, never run, and nothing listens on anything but loopback.
package usher
