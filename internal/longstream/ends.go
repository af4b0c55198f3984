package longstream

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"
)

const (
	// Patience is how long a stream waits for a connection that takes the place of a broken one.
	Patience = 2 * time.Minute
	// againFirst and againMost are the pauses before another connection is tried.
	againFirst = 100 * time.Millisecond
	againMost  = 5 * time.Second
)

// Dial makes a stream whose connections are opened by a function, the first one at once. An error
// that final finds final ends it.
func Dial(ctx context.Context, open func(context.Context) (net.Conn, error), final func(error) bool) (*Stream, error) {
	conn, err := open(ctx)
	if err != nil {
		return nil, err
	}
	s := New()
	go func() {
		stop := context.AfterFunc(ctx, func() { s.Fail(ctx.Err()) })
		defer stop()
		for conn != nil {
			if s.Carry(conn) == nil {
				return
			}
			conn = s.again(ctx, open, final)
		}
	}()
	return s, nil
}

// again opens another connection; nil: it is given up.
func (s *Stream) again(ctx context.Context, open func(context.Context) (net.Conn, error), final func(error) bool) net.Conn {
	limit := time.Now().Add(Patience)
	for wait := againFirst; !s.Over(); wait = min(2*wait, againMost) {
		limited, cancel := context.WithDeadline(ctx, limit)
		conn, err := open(limited)
		cancel()
		switch {
		case err == nil:
			return conn
		case final(err):
			s.Fail(err)
			return nil
		case time.Now().Add(wait).After(limit):
			s.Fail(fmt.Errorf("%w: %w", ErrLost, err))
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(wait):
		}
	}
	return nil
}

// Shelf keeps the streams of those whose connections may come back.
type Shelf struct {
	mu   sync.Mutex
	kept map[string]*kept
}

type kept struct {
	*Stream
	owner    Owner
	carriers int
	going    *time.Timer
}

// Owner is whose a stream is.
type Owner struct{ Account, Workspace int64 }

// mostKept is how many streams an account has at the most: each keeps up to a megabyte.
const mostKept = 100

var (
	// ErrGone is that a stream that is asked for again is not there any more.
	ErrGone = errors.New("this stream is gone: nothing was heard of it for too long, or the service was started again")
	// ErrFull is that an account has too many streams.
	ErrFull = fmt.Errorf("%d streams are open already", mostKept)
)

// Take finds the stream of an id, or makes it where it is new. Each stream is its owner's alone.
func (s *Shelf) Take(id string, owner Owner, isNew bool) (*Stream, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.kept == nil {
		s.kept = map[string]*kept{}
	}
	k := s.kept[id]
	switch {
	case k != nil && (k.owner != owner || isNew), k == nil && !isNew:
		return nil, ErrGone
	case k == nil && s.count(owner.Account) >= mostKept:
		return nil, ErrFull
	case k == nil:
		k = &kept{Stream: New(), owner: owner}
		s.kept[id] = k
	}
	if k.going != nil {
		k.going.Stop()
		k.going = nil
	}
	k.carriers++
	return k.Stream, nil
}

// count tells how many streams an account has. The caller holds the lock.
func (s *Shelf) count(account int64) (n int) {
	for _, k := range s.kept {
		if k.owner.Account == account {
			n++
		}
	}
	return n
}

// Put says that a connection of a stream has ended. Where none comes in time, or the stream is over,
// it is given up.
func (s *Shelf) Put(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	k := s.kept[id]
	if k == nil {
		return
	}
	if k.carriers--; k.carriers > 0 {
		return
	}
	if k.Over() {
		delete(s.kept, id)
		return
	}
	k.going = time.AfterFunc(Patience, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if k.carriers == 0 && s.kept[id] == k {
			delete(s.kept, id)
			k.Fail(ErrLost)
		}
	})
}
