package agent

import (
	"runtime/debug"
	"sync"
	"time"
)

// quiet is how long nobody comes or goes before memory is given back.
const quiet = time.Second

// memory gives back to the system what connections left behind: the agent takes its memory from what
// the person's programs may have.
type memory struct {
	mu    sync.Mutex
	after *time.Timer
}

// changed notes that somebody has come or gone.
func (m *memory) changed() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.after == nil {
		m.after = time.AfterFunc(quiet, debug.FreeOSMemory)
		return
	}
	m.after.Reset(quiet)
}
