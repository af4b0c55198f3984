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

// together lets those who ask a git host the same at the same moment share one answer. Who
// comes while a question is under way does not take its answer, which may be older than
// what was pushed since, but shares the next one with all who wait by then.
type together struct {
	mu      sync.Mutex
	waiting map[string]*question // not asked yet
	asked   map[string]*question // under way
}

type question struct {
	done chan struct{} // closed when tip and err are there
	tip  tip
	err  error
}

func (t *together) ask(ctx context.Context, key string, ask func(context.Context) (tip, error)) (tip, error) {
	t.mu.Lock()
	if t.waiting == nil {
		t.waiting, t.asked = map[string]*question{}, map[string]*question{}
	}
	q := t.waiting[key]
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
	t.asked[key] = q
	t.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	q.tip, q.err = ask(ctx)
	t.mu.Lock()
	if t.asked[key] == q {
		delete(t.asked, key)
	}
	t.mu.Unlock()
	close(q.done)
}

// identity tells questions apart: what is asked, and as whom.
func (w Want) identity() string {
	who := ""
	if w.Login != nil {
		who = fmt.Sprintf("%x", sha256.Sum256(fmt.Appendf(nil, "%s\n%s\n%s", w.Login.Username, w.Login.Token, w.Login.Key)))
	}
	return fmt.Sprintf("%s\n%s\n%s", w.Address, w.Ref, who)
}
