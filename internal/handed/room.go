//go:build linux

package handed

import (
	"sync"

	"golang.org/x/sys/unix"
)

// How many descriptors there may be at once that were handed over. The Go runtime ends a program with
// more than 10,000 threads.
const (
	mostOfOne = 256
	mostOfAll = 2048
)

// Room bounds what is held. The zero value is empty.
type Room struct {
	mu  sync.Mutex
	all int
	of  map[int64]int
}

// Place is that of one descriptor.
type Place struct{ leave func() }

// Enter takes a place for a workspace; nil: there is none.
func (r *Room) Enter(workspace int64) *Place {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.all >= mostOfAll || r.of[workspace] >= mostOfOne {
		return nil
	}
	if r.of == nil {
		r.of = map[int64]int{}
	}
	r.all++
	r.of[workspace]++
	return &Place{sync.OnceFunc(func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.all--
		if r.of[workspace]--; r.of[workspace] == 0 {
			delete(r.of, workspace)
		}
	})}
}

// Leave gives it back. What has come there is closed first, however long that takes: -1 is nothing.
func (p *Place) Leave(fd int) {
	if fd < 0 {
		p.leave()
		return
	}
	go func() {
		defer p.leave()
		unix.Close(fd)
	}()
}
