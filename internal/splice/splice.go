// Package splice joins two streams.
package splice

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"sync"
	"time"
)

// Both copies both ways until both have ended. The end of one direction is passed on, where the
// stream can say it, while the other goes on.
func Both(a, b io.ReadWriter) {
	var both sync.WaitGroup
	both.Go(func() { One(a, b) })
	both.Go(func() { One(b, a) })
	both.Wait()
}

// local is how long a port of this machine may take to answer.
const local = 10 * time.Second

// Local joins a stream to a port of this machine's loopback until both have ended, and closes it. An
// error is that nothing answers there.
func Local(ctx context.Context, far io.ReadWriteCloser, port int) error {
	defer far.Close()
	limited, cancel := context.WithTimeout(ctx, local)
	near, err := (&net.Dialer{}).DialContext(limited, "tcp", net.JoinHostPort("localhost", strconv.Itoa(port)))
	cancel()
	if err != nil {
		return fmt.Errorf("nothing answers at port %d of this machine", port)
	}
	defer near.Close()
	Both(near, far)
	return nil
}

// One copies one way and tells the other side of the end.
func One(to io.Writer, from io.Reader) {
	_ = Copy(to, from)
	if half, ok := to.(interface{ CloseWrite() error }); ok {
		_ = half.CloseWrite()
	}
}

const (
	// idle is how much memory a stream holds in which little happens, in bytes.
	idle = 2 << 10
	// busy is how much is copied at a time where much does.
	busy = 64 << 10
)

var buffers = sync.Pool{New: func() any { return new([busy]byte) }}

// Copy copies until the end, or until an error of either side: nil is the end. It holds little memory
// while nothing comes, for most streams wait most of the time.
func Copy(to io.Writer, from io.Reader) error {
	if w, ok := from.(io.WriterTo); ok && !reads(from) {
		_, err := w.WriteTo(to)
		return err
	}
	small := make([]byte, idle)
	for {
		n, err := from.Read(small)
		if err := pass(to, small[:n]); err != nil {
			return err
		}
		if err == nil && n == len(small) {
			err = copyMuch(to, from)
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// reads tells that a stream's own way of copying holds a buffer while it waits.
func reads(from io.Reader) bool {
	switch from.(type) {
	case *net.TCPConn, *net.UnixConn, *os.File:
		return true
	}
	return false
}

// copyMuch copies until little comes.
func copyMuch(to io.Writer, from io.Reader) error {
	large := buffers.Get().(*[busy]byte)
	defer buffers.Put(large)
	for {
		n, err := from.Read(large[:])
		if err := pass(to, large[:n]); err != nil {
			return err
		}
		if err != nil || n < idle {
			return err
		}
	}
}

func pass(to io.Writer, b []byte) error {
	if len(b) == 0 {
		return nil
	}
	_, err := to.Write(b)
	return err
}
