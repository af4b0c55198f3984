package firstprocess

import (
	"bufio"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"

	"domicile/internal/agent/wire"
	"domicile/internal/beneath"
	"domicile/internal/callhome"
	"domicile/internal/channel"
	"domicile/internal/layer"
)

// server serves the channel, over the serial ports and to the service that the machine calls.
type server struct {
	home   *caller
	agents string // the folder in which each container has one of its own
}

func newServer() *server {
	s := &server{agents: channel.AgentFolder}
	s.home = &caller{handle: s.handle, again: make(chan struct{}, 1)}
	return s
}

// serve serves the channel over the serial ports.
func (s *server) serve() error {
	control, err := openPort(channel.ControlPort)
	if err != nil {
		return err
	}
	data, err := openPort(channel.DataPort)
	if err != nil {
		return err
	}
	return channel.Serve(control, data, s.handle)
}

func (s *server) handle(ctx context.Context, to string, stream net.Conn) {
	if id, is := strings.CutPrefix(to, channel.ToAgent+" "); is {
		s.toAgent(ctx, id, stream)
		return
	}
	switch to {
	case channel.ToEngine:
		engine, err := net.Dial("unix", engineSocket)
		if err != nil {
			return // it starts: who asks sees the end, and asks again
		}
		// Half of a stream may have ended before: then only this ends the other.
		stop := context.AfterFunc(ctx, func() { engine.Close() })
		defer stop()
		splice(stream, engine)
	case channel.ToWake:
		w, err := channel.ReadWaking(stream)
		if err != nil {
			return
		}
		if err := wake(w); err != nil {
			_, _ = fmt.Fprintf(stream, "%v\n", err)
			return
		}
		_, _ = io.WriteString(stream, channel.Awake)
		s.home.now() // a connection of before is none
	case channel.ToDisk:
		unix.Sync()
		_, _ = io.WriteString(stream, channel.OnDisk)
	case channel.ToLayer:
		var parts []layer.Part
		if err := json.NewDecoder(io.LimitReader(stream, mostParts)).Decode(&parts); err != nil {
			return
		}
		w := bufio.NewWriterSize(stream, 256<<10)
		if err := layer.Write(w, parts); err != nil {
			return // it has no end
		}
		_, _ = w.WriteString(layer.End)
		_ = w.Flush() // who does not see the end knows
	case channel.ToFirst:
		var given callhome.FirstBoot
		err := json.NewDecoder(io.LimitReader(stream, mostFirst)).Decode(&given)
		if err == nil {
			err = s.home.first(given)
		}
		if err != nil {
			_, _ = fmt.Fprintf(stream, "%v\n", err)
			return
		}
		_, _ = io.WriteString(stream, channel.Taken)
	case channel.ToOff:
		halt()
	}
}

// toAgent leads to the agent of a workspace's container. What the container has put in the place of
// its socket is not followed.
func (s *server) toAgent(ctx context.Context, id string, stream net.Conn) {
	if !channel.IsID(id) {
		return
	}
	agent, err := beneath.Dial(ctx, filepath.Join(s.agents, id), filepath.Base(wire.SocketPath))
	if err != nil {
		return // it is not there yet: who asks sees the end
	}
	stop := context.AfterFunc(ctx, func() { agent.Close() })
	defer stop()
	splice(stream, agent)
}

// mostParts bounds the parts of a layer, in bytes.
const mostParts = 1 << 20

// mostFirst bounds the first-boot data, in bytes.
const mostFirst = 16 << 10

// splice copies both ways until both have ended.
func splice(a, b net.Conn) {
	defer a.Close()
	defer b.Close()
	var both sync.WaitGroup
	for _, way := range [][2]net.Conn{{a, b}, {b, a}} {
		both.Go(func() {
			_, _ = io.Copy(way[0], way[1])
			if half, can := way[0].(interface{ CloseWrite() error }); can {
				_ = half.CloseWrite()
			} else {
				way[0].Close()
			}
		})
	}
	both.Wait()
}

// wake sets what a machine has of time and chance, and what names it.
func wake(w channel.Waking) error {
	now := unix.NsecToTimeval(w.Time.UnixNano())
	if err := unix.Settimeofday(&now); err != nil {
		return fmt.Errorf("set the clock: %w", err)
	}
	if err := mix(w.Chance[:]); err != nil {
		return fmt.Errorf("mix in random numbers: %w", err)
	}
	if err := unix.Sethostname([]byte(w.Hostname)); err != nil {
		return fmt.Errorf("set the name: %w", err)
	}
	id := make([]byte, 16)
	if _, err := unix.Getrandom(id, 0); err != nil {
		return fmt.Errorf("make an identifier: %w", err)
	}
	return os.WriteFile(identifierFile, append(hex.AppendEncode(nil, id), '\n'), 0o444)
}

// The kernel's calls for random numbers (random.h).
const (
	addEntropy = 0x40085203 // RNDADDENTROPY
	reseed     = 0x5207     // RNDRESEEDCRNG
)

// mix mixes random bytes into the kernel's, and has it use them at once.
func mix(chance []byte) error {
	f, err := os.OpenFile("/dev/urandom", os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	pool := struct {
		bits, size int32
		bytes      [64]byte
	}{}
	n := copy(pool.bytes[:], chance)
	pool.bits, pool.size = int32(8*n), int32(n)
	if _, _, e := unix.Syscall(unix.SYS_IOCTL, f.Fd(), addEntropy, uintptr(unsafe.Pointer(&pool))); e != 0 {
		return e
	}
	if _, _, e := unix.Syscall(unix.SYS_IOCTL, f.Fd(), reseed, 0); e != 0 {
		return e
	}
	return nil
}
