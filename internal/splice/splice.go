// Package splice joins two streams.
package splice

import (
	"io"
	"sync"
)

// Both copies both ways until both have ended. The end of one direction is passed on, where the
// stream can say it, while the other goes on.
func Both(a, b io.ReadWriter) {
	var both sync.WaitGroup
	both.Go(func() { One(a, b) })
	both.Go(func() { One(b, a) })
	both.Wait()
}

// One copies one way and tells the other side of the end.
func One(to io.Writer, from io.Reader) {
	_, _ = io.Copy(to, from)
	if half, ok := to.(interface{ CloseWrite() error }); ok {
		_ = half.CloseWrite()
	}
}
