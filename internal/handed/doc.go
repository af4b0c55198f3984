//go:build linux

// Package handed passes open descriptors from an agent to the service, over a socket of their machine
// (SCM_RIGHTS, unix(7)): what the service holds itself, nobody has to copy for it.
//
// Whoever is root in a workspace may have put something in the agent's place, so what comes is judged by
// an allow-list before it is used. It still is shared with who handed it over, who may change at any
// time what both have in common: whether calls wait (O_NONBLOCK), how long a close lingers. So any call
// on it may hold a thread for as long as they like over there. Nothing else waits for such a call, and
// there are only so many places for what is handed over, of each workspace and of all: without one,
// things go as they do where nothing can be handed over.
package handed
