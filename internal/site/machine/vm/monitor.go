package vm

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/digitalocean/go-qemu/qmp"
)

// monitorLimit bounds one talk with a machine's monitor, but for what moves its memory.
const monitorLimit = 20 * time.Second

// monitor talks with the monitor of the machine of a folder.
func monitor(ctx context.Context, folder string, talk func(ask func(command string, arguments any) (json.RawMessage, error)) error) error {
	var mon *qmp.SocketMonitor
	var err error
	waitUntil(ctx, monitorLimit, func() bool { // it talks with one at a time, and lets few wait
		mon, err = qmp.NewSocketMonitor("unix", filepath.Join(folder, monitorName), monitorLimit)
		return !errors.Is(err, syscall.EAGAIN)
	})
	if err != nil {
		return fmt.Errorf("reach the monitor of a machine: %w", err)
	}
	stop := context.AfterFunc(ctx, func() { _ = mon.Disconnect() })
	defer func() {
		if stop() {
			_ = mon.Disconnect()
		}
	}()
	if err := mon.Connect(); err != nil {
		return fmt.Errorf("reach the monitor of a machine: %w", err)
	}
	return talk(func(command string, arguments any) (json.RawMessage, error) {
		b, err := json.Marshal(map[string]any{"execute": command, "arguments": arguments})
		if err != nil {
			return nil, err
		}
		answer, err := mon.Run(b)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", command, err)
		}
		var r struct {
			Return json.RawMessage `json:"return"`
		}
		if err := json.Unmarshal(answer, &r); err != nil {
			return nil, fmt.Errorf("%s: read the answer: %w", command, err)
		}
		return r.Return, nil
	})
}

// nothing are no arguments.
var nothing = struct{}{}

// moveLimit bounds how long the memory of a machine takes to be written or read.
const moveLimit = 5 * time.Minute

// moveSpeed is no bound, in bytes a second: QEMU has one of its own that is meant for networks.
const moveSpeed = 10 << 30

// capability is the arguments that set whether memory that is a file stays where it is.
func capability(shared bool) any {
	return map[string]any{"capabilities": []any{map[string]any{"capability": "x-ignore-shared", "state": shared}}}
}

// moved waits until a machine's state has been written or read.
func moved(ctx context.Context, ask func(string, any) (json.RawMessage, error)) error {
	for {
		b, err := ask("query-migrate", nothing)
		if err != nil {
			return err
		}
		var r struct {
			Status string `json:"status"`
			Error  string `json:"error-desc"`
		}
		if err := json.Unmarshal(b, &r); err != nil {
			return err
		}
		switch r.Status {
		case "completed":
			return nil
		case "failed", "cancelled":
			return fmt.Errorf("the state of a machine could not be moved: %s", r.Error)
		}
		select {
		case <-time.After(5 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// save has a machine write its state, which is read to the end by take. The machine rests then.
// shared: its memory is a file, and stays there. The process works in the folder, and reaches the
// socket by its name alone: the folders above are closed to it.
func save(ctx context.Context, folder string, shared bool, take func(io.Reader) error) error {
	ctx, cancel := context.WithTimeout(ctx, moveLimit)
	defer cancel()
	const name = "move.sock"
	socket := filepath.Join(folder, name)
	_ = os.Remove(socket) // of an earlier one
	l, err := net.Listen("unix", socket)
	if err != nil {
		return fmt.Errorf("listen for the state of a machine: %w", err)
	}
	defer l.Close()
	if err := os.Chmod(socket, 0o666); err != nil { // its process is nobody's
		return err
	}
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	taken := make(chan error, 1)
	go func() {
		conn, err := l.Accept()
		if err == nil {
			defer conn.Close()
			err = take(conn)
		}
		taken <- err
	}()
	err = monitor(ctx, folder, func(ask func(string, any) (json.RawMessage, error)) error {
		for _, step := range []struct {
			command   string
			arguments any
		}{{"stop", nothing}, {"migrate-set-capabilities", capability(shared)}, {"migrate-set-parameters", map[string]any{"max-bandwidth": int64(moveSpeed)}}, {"migrate", map[string]any{"uri": "unix:" + name}}} {
			if _, err := ask(step.command, step.arguments); err != nil {
				return err
			}
		}
		return moved(ctx, ask)
	})
	if err != nil {
		l.Close() // nobody comes any more
		if takeErr := <-taken; takeErr != nil && !errors.Is(takeErr, net.ErrClosed) {
			err = errors.Join(takeErr, err) // such as a disk that is full
		}
		return err
	}
	return <-taken
}

// load starts a machine, gives it its state, and has it go on. The state goes through a file
// that the process inherits: it can open none by then.
func (m *Maker) load(ctx context.Context, p launching, a accelerator, shared bool, give func(io.Writer) error) error {
	ctx, cancel := context.WithTimeout(ctx, moveLimit)
	defer cancel()
	theirs, ours, err := os.Pipe()
	if err != nil {
		return fmt.Errorf("give a machine its state: %w", err)
	}
	defer ours.Close()
	p.incoming = theirs
	err = m.launch(ctx, p, a)
	theirs.Close()
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { ours.Close() })
	defer stop()
	return monitor(ctx, p.folder, func(ask func(string, any) (json.RawMessage, error)) error {
		if _, err := ask("migrate-set-capabilities", capability(shared)); err != nil {
			return err
		}
		if _, err := ask("migrate-incoming", map[string]any{"uri": fmt.Sprintf("fd:%d", incomingFD)}); err != nil {
			return err
		}
		if err := errors.Join(give(ours), ours.Close()); err != nil {
			return fmt.Errorf("give a machine its state: %w", err)
		}
		if err := moved(ctx, ask); err != nil {
			return err
		}
		_, err = ask("cont", nothing)
		return err
	})
}
