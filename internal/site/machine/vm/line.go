package vm

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"strings"
	"time"

	"domicile/internal/channel"
	"domicile/internal/fault"
)

// line gives the session with a machine, and begins it where there is none.
func (m *Maker) line(ctx context.Context, id, folder string) (line, error) {
	m.mu.Lock()
	l := m.lines[id]
	m.mu.Unlock()
	if l != nil {
		select {
		case <-l.Over():
		default:
			return l, nil
		}
	}
	err := m.turns.Take(ctx, "line of "+id, func() error {
		m.mu.Lock()
		now := m.lines[id]
		m.mu.Unlock()
		if now != nil && now != l { // somebody was faster
			l = now
			return nil
		}
		m.dropLine(id) // its ports are let go: each is one's at a time
		var err error
		if l, err = takeLine(ctx, folder); err != nil {
			return fault.Transient(err, "machine-silent", "", "the machine of the workspace %s does not answer", id)
		}
		if _, own := l.(*ownLine); own {
			m.mu.Lock()
			defer m.mu.Unlock()
			m.lines[id] = l
		}
		return nil
	})
	return l, err
}

func (m *Maker) dropLine(id string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if l := m.lines[id]; l != nil {
		l.Close()
		delete(m.lines, id)
	}
}

// openLine begins a session with the machine of a folder.
func openLine(ctx context.Context, folder string) (*channel.Line, error) {
	var d net.Dialer
	control, err := d.DialContext(ctx, "unix", filepath.Join(folder, controlName))
	if err != nil {
		return nil, err
	}
	data, err := d.DialContext(ctx, "unix", filepath.Join(folder, dataPort))
	if err != nil {
		control.Close()
		return nil, err
	}
	return channel.Open(ctx, control, data)
}

// tellLimit bounds how long a machine takes to be told something.
const tellLimit = 20 * time.Second

// wake gives a machine the time, fresh random numbers and a name of its own.
func wake(ctx context.Context, l line, name string) error {
	waking := channel.Waking{Time: time.Now(), Hostname: name}
	_, _ = rand.Read(waking.Chance[:]) // which never fails
	err := tell(ctx, l, channel.ToWake, waking.Bytes(), channel.Awake)
	if errors.Is(err, errNoAnswer) {
		var text []byte
		if text, err = json.Marshal(earlierWaking{waking.Time, waking.Chance[:], name, true}); err == nil {
			err = tell(ctx, l, channel.ToWake, text, channel.Awake)
		}
	}
	if err != nil {
		return fmt.Errorf("wake a machine: %w", err)
	}
	return nil
}

// earlierWaking is a Waking as a machine reads it that sleeps since an earlier version of the
// service: it answers nothing to the form of today.
type earlierWaking struct {
	Time     time.Time `json:"time"`
	Chance   []byte    `json:"chance"`
	Hostname string    `json:"hostname"`
	Slept    bool      `json:"slept"`
}

// errNoAnswer is that a machine closes a stream and says nothing.
var errNoAnswer = errors.New("it says nothing")

// Give gives a machine that runs what a rented instance is given when it first starts.
func (m *Maker) Give(ctx context.Context, id string, first []byte) error {
	folder, _, err := m.read(id)
	if err != nil {
		return err
	}
	line, err := m.line(ctx, id, folder)
	if err != nil {
		return err
	}
	if err := tell(ctx, line, channel.ToFirst, first, channel.Taken); err != nil {
		return fmt.Errorf("give a machine its first-boot data: %w", err)
	}
	return nil
}

// tell tells a machine something under a word, and wants one answer.
func tell(ctx context.Context, l line, word string, what []byte, want string) error {
	ctx, cancel := context.WithTimeout(ctx, tellLimit)
	defer cancel()
	stream, err := l.Dial(ctx, word)
	if err != nil {
		return err
	}
	defer stream.Close()
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	defer stop()
	if _, err := stream.Write(what); err != nil {
		return err
	}
	answer, err := io.ReadAll(io.LimitReader(stream, mostSaid))
	if err == nil && len(answer) == 0 {
		err = errNoAnswer
	} else if err == nil && string(answer) != want {
		err = fmt.Errorf("it says %q", strings.TrimSpace(string(answer)))
	}
	return err
}

// mostSaid bounds what is read of a machine's answer: all in it is somebody else's word.
const mostSaid = 400

// waitUntil waits until something is so, at most for a limit, and tells whether it is.
func waitUntil(ctx context.Context, limit time.Duration, so func() bool) bool {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	for !so() {
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return so()
		}
	}
	return true
}
