package run

import (
	"bytes"
	"context"
	"domicile/internal/visible"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"domicile/internal/mask"
	"domicile/internal/records"
)

// What is kept of a step's output: its beginning and its end. A command that prints
// hundreds of megabytes must not fill the database.
const (
	keepFirst      = 10000   // lines
	keepFirstBytes = 4 << 20 // of them; what comes first of the two
	keepLast       = 500     // lines
	keepLastBytes  = 256 << 10
	maxLine        = 4096 // bytes; longer ones are broken
	flushEvery     = 100 * time.Millisecond
)

// logSink collects the lines of a run's steps and writes them in batches.
type logSink struct {
	store     *records.Store
	workspace records.Workspace
	run       int64
	log       *slog.Logger
	mask      *mask.Mask

	mu      sync.Mutex
	step    int
	number  int64
	pending []records.LogLine
	kept    int               // lines of this step that were or will be written
	size    int               // of them, in bytes
	last    []records.LogLine // beyond keepFirst: the newest, not written yet
	ending  int               // their size, in bytes
	dropped int

	stop context.CancelFunc
	done chan struct{}
}

func newLogSink(ctx context.Context, store *records.Store, w records.Workspace, run int64, log *slog.Logger) (*logSink, error) {
	number, err := store.LastLogNumber(ctx, run)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(ctx)
	s := &logSink{store: store, workspace: w, run: run, log: log, number: number, stop: stop, done: make(chan struct{})}
	go func() {
		defer close(s.done)
		for ctx.Err() == nil {
			pause(ctx, flushEvery)
			s.write(ctx)
		}
	}()
	return s, nil
}

// restart forgets the lines of a step that an earlier worker did not get to the end of:
// its output is read again from its beginning.
func (s *logSink) restart(ctx context.Context, step int) error {
	return s.store.DropLog(ctx, s.run, step)
}

// begin says which step the lines that follow belong to.
func (s *logSink) begin(step int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.step, s.kept, s.size, s.dropped, s.last, s.ending = step, 0, 0, 0, nil, 0
}

// say adds lines to the log. It makes escape sequences visible, because a client may print the log to a terminal.
func (s *logSink) say(text string) {
	text = strings.ToValidUTF8(strings.ReplaceAll(text, "\x00", ""), "\uFFFD")
	s.mu.Lock()
	defer s.mu.Unlock()
	for line := range strings.SplitSeq(text, "\n") {
		s.add(visible.Text(s.mask.Line(line)))
	}
}

func (s *logSink) add(text string) {
	l := records.LogLine{Step: s.step, At: time.Now(), Text: text}
	if s.kept < keepFirst && s.size < keepFirstBytes && s.dropped == 0 && len(s.last) == 0 {
		s.kept++
		s.size += len(text)
		s.queue(l)
		return
	}
	s.last = append(s.last, l)
	s.ending += len(text)
	for len(s.last) > keepLast || s.ending > keepLastBytes && len(s.last) > 1 {
		s.ending -= len(s.last[0].Text)
		s.last = s.last[1:]
		s.dropped++
	}
}

func (s *logSink) queue(l records.LogLine) {
	s.number++
	l.Number = s.number
	s.pending = append(s.pending, l)
}

// flush writes all lines there are, the end of a long output too.
func (s *logSink) flush(ctx context.Context) {
	s.finish()
	s.write(ctx)
}

// finish takes the end of a long output among the pending lines.
func (s *logSink) finish() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.dropped > 0 {
		s.queue(records.LogLine{Step: s.step, At: time.Now(), Text: fmt.Sprintf("… %d lines left out …", s.dropped)})
	}
	for _, l := range s.last {
		s.queue(l)
	}
	s.last, s.ending, s.dropped = nil, 0, 0
}

// write writes the pending lines.
func (s *logSink) write(ctx context.Context) {
	err := s.take(func(lines []records.LogLine) error {
		if len(lines) == 0 {
			return nil
		}
		return s.store.AddLog(ctx, s.workspace, s.run, lines)
	})
	if err != nil && ctx.Err() == nil {
		s.log.Warn("write log lines", "run", s.run, "error", err)
	}
}

// hand gives all lines there are to who writes them together with something else.
func (s *logSink) hand(write func([]records.LogLine) error) error {
	s.finish()
	return s.take(write)
}

// take gives the pending lines to be written. Where that fails they stay pending.
func (s *logSink) take(write func([]records.LogLine) error) error {
	s.mu.Lock()
	lines := s.pending
	s.pending = nil
	s.mu.Unlock()
	err := write(lines)
	if err != nil {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.pending = append(lines, s.pending...)
	}
	return err
}

// Close writes what is left.
func (s *logSink) Close() {
	s.stop()
	<-s.done
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	s.flush(ctx)
}

// writer makes lines of a program's output, each with a prefix.
func (s *logSink) writer(prefix string) io.Writer { return &lineWriter{sink: s, prefix: prefix} }

type lineWriter struct {
	sink   *logSink
	prefix string
	rest   []byte
}

func (w *lineWriter) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		i, ends := bytes.IndexByte(p, '\n'), true
		if room := maxLine + 1 - len(w.rest); i < 0 || i > room {
			i, ends = min(len(p), room), false
		}
		w.rest = append(w.rest, p[:i]...)
		p = p[i:]
		switch {
		case ends:
			p = p[1:]
			w.line(w.rest)
			w.rest = w.rest[:0]
		case len(w.rest) > maxLine:
			cut := maxLine
			for cut > maxLine-utf8.UTFMax && !utf8.RuneStart(w.rest[cut]) {
				cut--
			}
			w.line(w.rest[:cut])
			w.rest = append(w.rest[:0], w.rest[cut:]...)
		}
	}
	return n, nil
}

// line shows what a terminal would: of a line that was written over, the last version.
func (w *lineWriter) line(b []byte) {
	text := strings.TrimRight(string(b), "\r")
	if i := strings.LastIndexByte(text, '\r'); i >= 0 {
		text = text[i+1:]
	}
	w.sink.say(w.prefix + text)
}

// Close writes a last line that has no end.
func (w *lineWriter) Close() error {
	if len(w.rest) > 0 {
		w.line(w.rest)
		w.rest = nil
	}
	return nil
}
