//go:build linux

package handed

import (
	"sync"

	"golang.org/x/sys/unix"
)

// How much there may be at once that was handed over. The Go runtime ends a program with more than 10,000
// threads.
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

// Place is that of one thing that is handed over.
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

// Held tells how many places are taken.
func (r *Room) Held() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.all
}

// Leave gives it back. What has come there is closed first, however long that takes.
func (p *Place) Leave(came ...int) {
	if len(came) == 0 {
		p.leave()
		return
	}
	go func() {
		defer p.leave()
		for _, fd := range came {
			unix.Close(fd)
		}
	}()
}
