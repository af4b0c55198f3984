package main

import (
	"os"
	"sync/atomic"
	"time"

	"golang.org/x/sys/windows"
	"golang.org/x/term"
)

// lookAtSize is how often the terminal's size is looked at: this system tells of changes only to who
// reads the console's own events, and what is typed is read as bytes.
const lookAtSize = 250 * time.Millisecond

// windowChanges tells of changes of the terminal's size until stop is called.
func windowChanges(file *os.File) (changed <-chan struct{}, stop func()) {
	told, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(told)
		tick := time.NewTicker(lookAtSize)
		defer tick.Stop()
		columns, rows, _ := term.GetSize(int(file.Fd()))
		for {
			select {
			case <-ended:
				return
			case <-tick.C:
			}
			c, r, err := term.GetSize(int(file.Fd()))
			if err != nil || c == columns && r == rows {
				continue
			}
			columns, rows = c, r
			select {
			case told <- struct{}{}:
			case <-ended:
				return
			}
		}
	}()
	return told, func() { close(ended) }
}

// foreground tells whether the person can answer in the terminal: here always.
func foreground(*os.File) *atomic.Bool {
	hears := &atomic.Bool{}
	hears.Store(true)
	return hears
}

// readyTerminal has the console take the signs that move the cursor and choose colours.
func readyTerminal() {
	for _, file := range []*os.File{os.Stdout, os.Stderr} {
		var mode uint32
		if handle := windows.Handle(file.Fd()); windows.GetConsoleMode(handle, &mode) == nil {
			_ = windows.SetConsoleMode(handle, mode|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING)
		}
	}
}
