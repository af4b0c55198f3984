package main

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"golang.org/x/term"

	"domicile/internal/client"
	"domicile/internal/visible"
)

// failLines is how many of a failed step's last lines are shown.
const failLines = 15

// silentView shows nothing.
type silentView struct{}

func (silentView) update(client.Run, []client.LogLine) {}
func (silentView) end(client.Run)                      {}

// plainView prints a line for each thing that happens, for files and pipes.
type plainView struct {
	out   io.Writer
	begun map[int]bool
	ended map[int]bool
	held  []client.LogLine // of steps whose beginning was not told yet
}

func (v *plainView) update(r client.Run, lines []client.LogLine) {
	if v.begun == nil {
		v.begun, v.ended = map[int]bool{}, map[int]bool{}
	}
	lines = append(v.held, lines...)
	v.held = nil
	for _, s := range r.Steps {
		if s.State == client.StepStateWaiting {
			continue
		}
		if !v.begun[s.Position] {
			v.begun[s.Position] = true
			fmt.Fprintf(v.out, "%s\n", s.Title)
		}
		for _, l := range lines {
			if l.Step == s.Position {
				fmt.Fprintf(v.out, "    %s\n", l.Text)
			}
		}
		if !v.ended[s.Position] && s.State != client.StepStateRunning {
			v.ended[s.Position] = true
			fmt.Fprintf(v.out, "  %s %s\n", s.State, took(s))
		}
	}
	for _, l := range lines {
		if !v.begun[l.Step] {
			v.held = append(v.held, l)
		}
	}
}

func (v *plainView) end(client.Run) {}

func took(s client.Step) string {
	if s.Started == nil {
		return ""
	}
	end := time.Now()
	if s.Ended != nil {
		end = *s.Ended
	}
	return seconds(max(0, end.Sub(*s.Started)))
}

// liveView redraws the steps on a terminal. Its marks are words; colour only supports them.
type liveView struct {
	out    *os.File
	colour bool
	drawn  int            // lines on the screen
	tail   map[int]string // the last line of each step
	log    []client.LogLine
}

func newLiveView(out *os.File) *liveView {
	return &liveView{out: out, colour: colours(out), tail: map[int]string{}}
}

func (v *liveView) update(r client.Run, lines []client.LogLine) {
	for _, l := range lines {
		v.tail[l.Step] = l.Text
		v.log = append(v.log, l)
		if len(v.log) > 1000 {
			v.log = v.log[500:]
		}
	}
	width, _, err := term.GetSize(int(v.out.Fd()))
	if err != nil || width < 20 {
		width = 80
	}
	var b strings.Builder
	if v.drawn > 0 {
		fmt.Fprintf(&b, "\x1b[%dA\r\x1b[J", v.drawn)
	}
	v.drawn = 0
	for _, s := range r.Steps {
		v.drawn++
		fmt.Fprintln(&b, v.step(s, width))
		if tail := v.tail[s.Position]; s.State == client.StepStateRunning && tail != "" {
			v.drawn++
			fmt.Fprintln(&b, v.paint("2", clip("                    "+tail, width)))
		}
	}
	_, _ = io.WriteString(v.out, b.String())
}

func (v *liveView) step(s client.Step, width int) string {
	line := fmt.Sprintf("%-8s %9s  %s", s.State, took(s), s.Title)
	if s.Attempts > 1 {
		line += fmt.Sprintf(" (try %d)", s.Attempts)
	}
	if s.State == client.StepStateRunning && s.LastMillis != nil && *s.LastMillis > 1000 {
		line += "   last time " + seconds(time.Duration(*s.LastMillis)*time.Millisecond)
	}
	line = clip(line, width)
	switch s.State {
	case client.StepStateRunning:
		return v.paint("1", line)
	case client.StepStateFailed:
		return v.paint("1;31", line)
	case client.StepStateWaiting, client.StepStateSkipped:
		return v.paint("2", line)
	}
	return line
}

func (v *liveView) paint(code, s string) string {
	if !v.colour {
		return s
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

// end leaves, of a step that failed, its last lines on the screen.
func (v *liveView) end(r client.Run) {
	for _, s := range r.Steps {
		if s.State != client.StepStateFailed {
			continue
		}
		var lines []string
		for _, l := range v.log {
			if l.Step == s.Position {
				lines = append(lines, "    "+visible.Text(l.Text))
			}
		}
		fmt.Fprintln(v.out, strings.Join(lines[max(0, len(lines)-failLines):], "\n"))
	}
}

func clip(s string, width int) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, s)
	s = visible.Text(s)
	if r := []rune(s); len(r) >= width {
		return string(r[:width-2]) + "…"
	}
	return s
}
