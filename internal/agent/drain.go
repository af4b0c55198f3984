package agent

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"time"
)

var errEmptyTask = errors.New("a task needs a command")

// drainQuiet is how long a pipe must stay empty after its program's end to count as drained
// while another process still holds it.
const drainQuiet = 200 * time.Millisecond

// drain lets a reader take what is left in a pipe after the program has ended: until it is
// closed everywhere, or nothing more has come for a moment. Then it closes it.
func drain(pipe *os.File, read <-chan struct{}) {
	_ = pipe.SetReadDeadline(time.Now().Add(drainQuiet))
	<-read
	pipe.Close()
}

// lookIn finds a program in a PATH that is not the agent's own.
func lookIn(path, program string) string {
	if strings.Contains(program, "/") {
		return program
	}
	for _, folder := range filepath.SplitList(path) {
		if full := filepath.Join(folder, program); executable(full) {
			return full
		}
	}
	return program
}
