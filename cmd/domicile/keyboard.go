package main

import (
	"io"
	"sync"
)

// keyboard reads what is typed for one connection after the other. A read of a terminal cannot be called off, so one
// that began for a connection which broke would take the first key of the next one.
type keyboard struct {
	once  sync.Once
	from  io.Reader
	typed chan []byte
	mu    sync.Mutex
	back  [][]byte // what was read and could not be sent
}

const typedPiece = 32 << 10

func (k *keyboard) read() {
	k.typed = make(chan []byte)
	go func() {
		defer close(k.typed)
		for {
			b := make([]byte, typedPiece)
			n, err := k.from.Read(b)
			if n > 0 {
				k.typed <- b[:n]
			}
			if err != nil {
				return
			}
		}
	}()
}

// send sends what is typed until done is closed, to's end is lost, or nothing more comes: then to is closed. What
// could not be sent is the first of the next call.
func (k *keyboard) send(to io.WriteCloser, done <-chan struct{}) {
	k.once.Do(k.read)
	for {
		b, more := k.next(done)
		if b == nil {
			if !more {
				to.Close()
			}
			return
		}
		if _, err := to.Write(b); err != nil {
			k.mu.Lock()
			k.back = append(k.back, b)
			k.mu.Unlock()
			return
		}
	}
}

// next is what comes next; nil where done is closed, or (then more is false) nothing comes any more.
func (k *keyboard) next(done <-chan struct{}) (b []byte, more bool) {
	k.mu.Lock()
	if len(k.back) > 0 {
		defer k.mu.Unlock()
		b, k.back = k.back[0], k.back[1:]
		return b, true
	}
	k.mu.Unlock()
	select {
	case <-done:
		return nil, true
	default:
	}
	select {
	case <-done:
		return nil, true
	case b, more = <-k.typed:
		return b, more
	}
}
