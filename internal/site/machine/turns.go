package machine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/sync/semaphore"
)

// Turns lets one thing at a time be done to what a name stands for.
type Turns struct {
	// Folder is where services of one host that share it wait for each other; empty: the turns are
	// this process's alone. A process that ends gives up its turns.
	Folder string

	mu  sync.Mutex
	now map[string]*turn
}

type turn struct {
	free    *semaphore.Weighted
	wanting int // who has it or waits for it
}

// Take does something when its turn has come. Who has no more time does not wait for it.
func (t *Turns) Take(ctx context.Context, name string, do func() error) error {
	t.mu.Lock()
	if t.now == nil {
		t.now = map[string]*turn{}
	}
	mine := t.now[name]
	if mine == nil {
		mine = &turn{free: semaphore.NewWeighted(1)}
		t.now[name] = mine
	}
	mine.wanting++
	t.mu.Unlock()
	defer func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if mine.wanting--; mine.wanting == 0 {
			delete(t.now, name)
		}
	}()
	if err := mine.free.Acquire(ctx, 1); err != nil {
		return err
	}
	defer mine.free.Release(1)
	if t.Folder == "" {
		return do()
	}
	if err := os.MkdirAll(t.Folder, 0o700); err != nil {
		return fmt.Errorf("make the folder of turns: %w", err)
	}
	done, err := take(ctx, filepath.Join(t.Folder, fileOf(name)))
	if err != nil {
		return fmt.Errorf("wait for the turn of %s: %w", name, err)
	}
	defer done()
	return do()
}

// take takes a file's lock. Who has it takes the file away at the end, so that none stays of a name
// that nobody wants: who gets the lock of a file that is not there any more begins again.
func take(ctx context.Context, file string) (done func(), err error) {
	for {
		lock := flock.New(file, flock.SetPermissions(0o600))
		if _, err := lock.TryLockContext(ctx, turnEvery); err != nil {
			return nil, errors.Join(err, lock.Close())
		}
		mine, err := lock.Stat()
		if err != nil {
			return nil, errors.Join(err, lock.Close())
		}
		if now, err := os.Lstat(file); err == nil && os.SameFile(mine, now) {
			return func() {
				_ = os.Remove(file) // one that stays is taken as it is
				lock.Close()
			}, nil
		}
		lock.Close()
	}
}

// turnEvery is how often it is looked whether another process has ended its turn.
const turnEvery = 25 * time.Millisecond

// fileOf is the name of the file for a name, which may be any text.
func fileOf(name string) string {
	sum := sha256.Sum256([]byte(name))
	return hex.EncodeToString(sum[:8])
}
