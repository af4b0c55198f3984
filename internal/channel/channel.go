// Package channel carries many streams over the two serial ports of a machine: one for lines
// that begin and end a session, one for the session itself. A serial port knows no connections:
// what one side left unread of an earlier session is read past, up to a word that only this
// session has, so that a service that was killed, and a machine that was frozen and cloned, both
// begin anew.
package channel

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/hashicorp/yamux"
)

// The names of the ports.
const (
	ControlPort = "domicile.control"
	DataPort    = "domicile.data"
)

// The words of the control port, each with the session's name behind it.
const (
	begin = "begin"
	ready = "ready" // the answer: nothing of an earlier session reads the data port any more
	end   = "end"
	ended = "ended" // the answer
)

const (
	// beginLimit bounds how long a machine has to begin a session.
	beginLimit = 10 * time.Second
	// mostLine bounds a line of the control port, and the first one of a stream.
	mostLine = 200
	// window is how much of a stream may be under way.
	window = 4 << 20
)

// Port is an end of a serial port.
type Port interface {
	io.ReadWriter
	SetDeadline(t time.Time) error
}

func settings() *yamux.Config {
	c := yamux.DefaultConfig()
	c.EnableKeepAlive = false // a machine that is frozen answers nothing, and is well
	c.ConnectionWriteTimeout = 5 * time.Minute
	c.StreamOpenTimeout = 0
	c.MaxStreamWindowSize = window
	c.LogOutput = io.Discard
	return c
}

// kept is a port that stays open when its session ends.
type kept struct {
	Port
	r io.Reader
}

func (k kept) Read(b []byte) (int, error) { return k.r.Read(b) }

// Close wakes who reads or writes.
func (k kept) Close() error { return k.SetDeadline(time.Now()) }

// Line is a session with a machine, as its host has it.
type Line struct {
	session *yamux.Session
	control net.Conn
	answers *bufio.Reader // of the control port
	name    string
}

// Open begins a session over connections to the two ports, which become the line's own.
func Open(ctx context.Context, control, data net.Conn) (l *Line, err error) {
	l = &Line{control: control, answers: bufio.NewReader(control), name: newName()}
	defer func() {
		if err != nil {
			control.Close()
			data.Close()
		}
	}()
	stop := context.AfterFunc(ctx, func() { _ = control.SetDeadline(time.Now()); _ = data.SetDeadline(time.Now()) })
	defer stop()
	limit := time.Now().Add(beginLimit)
	if err := errors.Join(control.SetDeadline(limit), data.SetDeadline(limit)); err != nil {
		return nil, err
	}
	// A line of an earlier session may have been cut off.
	if _, err := fmt.Fprintf(control, "\n%s %s\n", begin, l.name); err != nil {
		return nil, fmt.Errorf("begin a session with a machine: %w", err)
	}
	if err := readPast(l.answers, ready+" "+l.name+"\n"); err != nil {
		return nil, fmt.Errorf("begin a session with a machine: %w", err)
	}
	if _, err := io.WriteString(data, l.name); err != nil {
		return nil, fmt.Errorf("begin a session with a machine: %w", err)
	}
	r := bufio.NewReader(data)
	if err := readPast(r, l.name); err != nil {
		return nil, fmt.Errorf("begin a session with a machine: %w", err)
	}
	if err := errors.Join(control.SetDeadline(time.Time{}), data.SetDeadline(time.Time{})); err != nil {
		return nil, err
	}
	l.session, err = yamux.Client(struct {
		io.Reader
		io.WriteCloser
	}{&judged{r: r}, data}, settings())
	return l, err
}

// Called begins a session over a connection that a machine made, which becomes the line's own. The
// connection tells when the machine is silent.
func Called(conn net.Conn) (*Line, error) {
	session, err := yamux.Client(struct {
		io.Reader
		io.WriteCloser
	}{&judged{r: conn, called: true}, conn}, alive())
	return &Line{session: session}, err
}

// Call serves a session in a machine over a connection that it made, until that ends.
func Call(conn net.Conn, handle Handler) error {
	session, err := yamux.Server(conn, alive())
	if err != nil {
		return err
	}
	ctx, over := context.WithCancel(context.Background())
	defer over()
	defer session.Close()
	s := server{handle: handle}
	return s.serve(ctx, session)
}

// alive are the settings of a session over a connection that may be cut without a word.
func alive() *yamux.Config {
	c := settings()
	c.EnableKeepAlive, c.KeepAliveInterval, c.ConnectionWriteTimeout = true, aliveEvery, aliveLimit
	return c
}

const (
	// aliveEvery is how often each side asks whether the other is there, aliveLimit how long that
	// has for an answer.
	aliveEvery = 15 * time.Second
	aliveLimit = 30 * time.Second
)

// Dial opens a stream to what a word means in the machine.
func (l *Line) Dial(ctx context.Context, to string) (net.Conn, error) {
	type opened struct {
		stream net.Conn
		err    error
	}
	done := make(chan opened, 1)
	go func() {
		stream, err := l.session.Open()
		if err == nil {
			_, err = io.WriteString(stream, to+"\n")
		}
		done <- opened{stream, err}
	}()
	select {
	case o := <-done:
		return o.stream, o.err
	case <-ctx.Done():
		go func() {
			if o := <-done; o.stream != nil {
				o.stream.Close()
			}
		}()
		return nil, ctx.Err()
	}
}

// Over is closed when the session has ended.
func (l *Line) Over() <-chan struct{} { return l.session.CloseChan() }

// Close ends the session.
func (l *Line) Close() {
	l.session.Close()
	if l.control != nil {
		l.control.Close()
	}
}

// Rest ends the session so that the machine is at rest and can be frozen: it says that nothing of
// the session is left. The control port stays open until the machine is gone.
func (l *Line) Rest(ctx context.Context) error {
	_ = l.session.GoAway()
	stop := context.AfterFunc(ctx, func() { _ = l.control.SetDeadline(time.Now()) })
	defer stop()
	if _, err := fmt.Fprintf(l.control, "%s %s\n", end, l.name); err != nil {
		return fmt.Errorf("end a session with a machine: %w", err)
	}
	if err := readPast(l.answers, ended+" "+l.name+"\n"); err != nil {
		return fmt.Errorf("end a session with a machine: %w", err)
	}
	l.session.Close()
	return nil
}

// nameLength is how long the name of a session is.
const nameLength = 64

func newName() string {
	b := make([]byte, nameLength/2)
	_, _ = rand.Read(b) // which never fails
	return hex.EncodeToString(b)
}

// readPast reads up to and past a word.
func readPast(r io.ByteReader, word string) error {
	var seen []byte
	for !strings.HasSuffix(string(seen), word) {
		b, err := r.ReadByte()
		if err != nil {
			return err
		}
		if seen = append(seen, b); len(seen) > 2*len(word) {
			seen = append(seen[:0], seen[len(seen)-len(word):]...)
		}
	}
	return nil
}

// Handler serves a stream of a session; to is the word that it was opened with. It returns when
// ctx ends, which is with the session.
type Handler func(ctx context.Context, to string, stream net.Conn)

// aloneEvery is how often a machine looks whether somebody has opened its ports.
const aloneEvery = 100 * time.Millisecond

// Serve serves sessions in a machine, one at a time, until the control port breaks. A port that
// nobody has opened reads as ended: it is looked at again.
func Serve(control, data Port, handle Handler) error {
	s := server{data: data, handle: handle}
	defer s.end()
	answer := func(word, name string) error {
		_, err := fmt.Fprintf(control, "%s %s\n", word, name)
		return err
	}
	for r := bufio.NewReader(control); ; {
		line, err := readLine(r)
		switch {
		case errors.Is(err, io.EOF):
			s.end()
			time.Sleep(aloneEvery)
			r.Reset(control)
			continue
		case err != nil:
			return err
		}
		word, name, _ := strings.Cut(line, " ")
		switch word {
		case begin:
			if len(name) != nameLength { // it was cut off
				continue
			}
			s.end()
			s.begin(name)
			err = answer(ready, name)
		case end:
			s.end()
			err = answer(ended, name)
		}
		if err != nil {
			return err
		}
	}
}

// server is a machine's side.
type server struct {
	data   Port
	handle Handler
	parts  sync.WaitGroup // of the session that there is

	mu      sync.Mutex
	over    context.CancelFunc // ends the session; nil: there was none
	session *yamux.Session
}

// begin begins a session when its name comes.
func (s *server) begin(name string) {
	ctx, over := context.WithCancel(context.Background())
	s.over = over
	_ = s.data.SetDeadline(time.Time{})
	s.parts.Go(func() {
		r := bufio.NewReader(s.data)
		if err := readPast(r, name); err != nil {
			return
		}
		if _, err := io.WriteString(s.data, name); err != nil {
			return
		}
		session, err := yamux.Server(kept{s.data, r}, settings())
		if err != nil {
			return // its settings are wrong
		}
		s.mu.Lock()
		s.session = session
		s.mu.Unlock()
		if ctx.Err() != nil {
			session.Close()
		}
		_ = s.serve(ctx, session) // which ends with it
	})
}

// serve serves the streams of a session until it ends.
func (s *server) serve(ctx context.Context, session *yamux.Session) error {
	for {
		stream, err := session.Accept()
		if err != nil {
			return err
		}
		s.parts.Go(func() {
			defer stream.Close()
			if to, err := firstLine(stream); err == nil {
				s.handle(ctx, to, stream)
			}
		})
	}
}

// end ends the session that there is, and waits until nothing of it is left.
func (s *server) end() {
	if s.over == nil {
		return
	}
	s.over()
	s.mu.Lock()
	session := s.session
	s.session = nil
	s.mu.Unlock()
	_ = s.data.SetDeadline(time.Now())
	if session != nil {
		session.Close()
	}
	s.parts.Wait()
}

// errLong is a line that is none.
var errLong = errors.New("a line is too long")

func readLine(r *bufio.Reader) (string, error) {
	var line []byte
	for {
		b, err := r.ReadByte()
		if err != nil {
			return "", err
		}
		if b == '\n' {
			return string(line), nil
		}
		if line = append(line, b); len(line) > mostLine {
			line = nil // it is none of ours
		}
	}
}

// firstLine reads a stream's first line and nothing behind it.
func firstLine(stream io.Reader) (string, error) {
	var line []byte
	for b := make([]byte, 1); ; {
		if _, err := io.ReadFull(stream, b); err != nil {
			return "", err
		}
		if b[0] == '\n' {
			return string(line), nil
		}
		if line = append(line, b[0]); len(line) > mostLine {
			return "", errLong
		}
	}
}
