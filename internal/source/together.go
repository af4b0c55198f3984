package source

import (
	"context"
	"crypto/sha256"
	"fmt"
	"sync"
	"time"
)

// askLimit bounds a question that several wait for: none of them can end it alone.
const askLimit = 2 * time.Minute

// answerKept is how long an answer is kept for those who have waited since before it was
// asked for.
const answerKept = time.Minute

// together lets those who ask a git host the same share one answer. Nobody takes an answer
// that was asked for before they came, since it may be older than what was pushed until
// then; who came before it was asked for, and only now gets their turn, does take it.
type together struct {
	mu      sync.Mutex
	waiting map[string]*question // not asked yet
	asked   map[string]*question // under way
	good    map[string]*question // answered well, not long ago
}

type question struct {
	begun time.Time     // when it was asked
	done  chan struct{} // closed when tip and err are there
	tip   tip
	err   error
}

// ask asks on behalf of somebody who came at a moment; the zero time is now.
func (t *together) ask(ctx context.Context, key string, came time.Time, ask func(context.Context) (tip, error)) (tip, error) {
	t.mu.Lock()
	if t.waiting == nil {
		t.waiting, t.asked, t.good = map[string]*question{}, map[string]*question{}, map[string]*question{}
	}
	q := t.waiting[key]
	for _, earlier := range []*question{t.asked[key], t.good[key]} {
		if earlier != nil && !came.IsZero() && earlier.begun.After(came) && time.Since(earlier.begun) < answerKept {
			q = earlier
		}
	}
	if q == nil {
		q = &question{done: make(chan struct{})}
		t.waiting[key] = q
		go t.carry(context.WithoutCancel(ctx), key, q, t.asked[key], ask)
	}
	t.mu.Unlock()
	select {
	case <-q.done:
		return q.tip, q.err
	case <-ctx.Done():
		return tip{}, ctx.Err()
	}
}

// carry asks when the question before has its answer.
func (t *together) carry(ctx context.Context, key string, q, before *question, ask func(context.Context) (tip, error)) {
	if before != nil {
		<-before.done
	}
	t.mu.Lock()
	delete(t.waiting, key)
	t.asked[key], q.begun = q, time.Now()
	t.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	q.tip, q.err = ask(ctx)
	t.mu.Lock()
	if t.asked[key] == q {
		delete(t.asked, key)
	}
	for other, answered := range t.good {
		if time.Since(answered.begun) > answerKept {
			delete(t.good, other)
		}
	}
	if q.err == nil {
		t.good[key] = q
	}
	t.mu.Unlock()
	close(q.done)
}

// identity tells questions apart: what is asked, and as whom.
func (w Want) identity() string {
	return fmt.Sprintf("%s\n%s\n%s", w.Address, w.Ref, w.Login.identity())
}

// identity is a digest of whom a git host takes this login for: what was fetched with it is
// shared with who has the same alone. Nobody in particular is a person too: what nobody
// needs a login for is everybody's.
func (l *Login) identity() string {
	if l == nil {
		return "nobody"
	}
	return fmt.Sprintf("%x", sha256.Sum256(fmt.Appendf(nil, "%d %s %d %s %s", len(l.Username), l.Username, len(l.Token), l.Token, l.Key)))[:20]
}
