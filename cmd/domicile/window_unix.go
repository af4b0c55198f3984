//go:build unix

package main

import (
	"os"
	"os/signal"
	"sync/atomic"
	"syscall"

	"golang.org/x/sys/unix"
)

// windowChanges tells of changes of the terminal's size until stop is called.
func windowChanges(*os.File) (changed <-chan struct{}, stop func()) {
	signals, told := make(chan os.Signal, 1), make(chan struct{})
	signal.Notify(signals, syscall.SIGWINCH)
	go func() {
		defer close(told)
		for range signals {
			told <- struct{}{}
		}
	}()
	return told, func() {
		signal.Stop(signals)
		close(signals)
		for range told { // one that was just told
		}
	}
}

// foreground tells whether the person can answer in the terminal that a program was started in. One in
// the background of a shell cannot: the system would stop it when it reads, which is ignored from then on.
func foreground(file *os.File) *atomic.Bool {
	hears := &atomic.Bool{}
	signal.Ignore(syscall.SIGTTIN)
	group, err := unix.IoctlGetInt(int(file.Fd()), unix.TIOCGPGRP)
	hears.Store(err == nil && group == unix.Getpgrp())
	return hears
}

// readyTerminal does nothing: terminals here take the signs that move the cursor.
func readyTerminal() {}
