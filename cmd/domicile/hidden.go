package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"domicile/internal/fault"
)

// readSecret asks on a terminal for a secret, and else reads all there is: a secret may have
// several lines.
func readSecret(t *terminal, question string) (string, error) {
	if _, isTerminal := fileOf(t.in); isTerminal {
		return readHidden(t, question)
	}
	b, err := io.ReadAll(io.LimitReader(t.in, maxKey+1))
	if err != nil {
		return "", fmt.Errorf("read the standard input: %w", err)
	}
	return strings.TrimSuffix(string(b), "\n"), nil
}

// readHidden asks on a terminal for what nobody is to see, and else reads one line.
func readHidden(t *terminal, question string) (string, error) {
	if file, isTerminal := fileOf(t.in); isTerminal {
		return askPassword(t, file, question)
	}
	line, err := bufio.NewReader(t.in).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", fmt.Errorf("read the standard input: %w", err)
	}
	if line = strings.TrimRight(line, "\r\n"); line == "" {
		what := strings.ToLower(question[:1]) + strings.TrimSuffix(question[1:], ": ")
		return "", fault.New("no-password", "give it as the first line of the standard input, or call this on a terminal", "the %s is missing", what)
	}
	return line, nil
}

// openFile opens a file that a person named; the error names it once.
func openFile(name string) (*os.File, error) {
	file, err := os.Open(name)
	var path *os.PathError
	if errors.As(err, &path) {
		err = path.Err
	}
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", name, err)
	}
	return file, nil
}

// answers are several answers that nobody is to see, on a terminal or a line each on standard
// input.
type answers struct {
	t *terminal
	r *bufio.Reader
}

func answersOf(t *terminal) *answers { return &answers{t, bufio.NewReader(t.in)} }

func (l *answers) hidden(question string) (string, error) {
	if file, isTerminal := fileOf(l.t.in); isTerminal {
		return askPassword(l.t, file, question)
	}
	return readHidden(&terminal{l.r, l.t.out, l.t.err}, question)
}
