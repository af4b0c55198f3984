package main

import (
	"context"
	"fmt"
	"io"

	"golang.org/x/term"

	"domicile/internal/client"
)

// asItWas ends what a program may have left in the terminal of who looked: another screen, a hidden
// cursor, colours.
const asItWas = "\x1b[?1049l\x1b[?25h\x1b[?2004l\x1b[?1000l\x1b[?1002l\x1b[?1003l\x1b[?1006l\x1b[0m"

// look shows a terminal of a workspace, until the program in it ends or a q or Ctrl-C is typed. It
// types nothing there: what the own terminal answers to what is shown goes nowhere.
func look(ctx context.Context, t *terminal, c *client.Service, workspace, name string) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	in, interactive := fileOf(t.in)
	end := "\n"
	if interactive {
		before, err := term.MakeRaw(int(in.Fd()))
		if err != nil {
			return fmt.Errorf("make the terminal raw: %w", err)
		}
		defer func() { _ = term.Restore(int(in.Fd()), before) }()
		end = "\r\n"
		fmt.Fprintf(t.err, "You look at a terminal of %s, and type nothing there. To leave: q\r\n", workspace)
		go func() {
			if untilLeft(in) {
				cancel()
			}
		}()
	}
	told := false
	out, _ := t.own()
	status, err := c.Look(ctx, workspace, name, out, func(columns, rows int) {
		if !interactive || told {
			return
		}
		if w, h, err := term.GetSize(int(in.Fd())); err == nil && (w < columns || h < rows) {
			told = true
			fmt.Fprintf(t.err, "It has %d columns and %d rows there, more than your window: what is drawn on the whole screen looks right in one that is as large.\r\n", columns, rows)
		}
	})
	if interactive {
		_, _ = io.WriteString(out, asItWas+end)
	}
	if ctx.Err() != nil {
		return nil // who looked has left
	}
	if err == nil && status != 0 {
		return exitStatus(status)
	}
	return err
}

// untilLeft reads what is typed until it says to leave.
func untilLeft(in io.Reader) bool {
	b := make([]byte, 64)
	for {
		n, err := in.Read(b)
		if err != nil {
			return false
		}
		if n == 1 && (b[0] == 'q' || b[0] == 3) { // alone: an answer of the own terminal has such letters in it
			return true
		}
	}
}
