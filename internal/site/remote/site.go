package remote

import (
	"context"
	"sync"
	"time"

	"domicile/internal/site"
)

// Engine is the engine of a host, as package engine makes it.
type Engine interface {
	site.Site
	site.Able
}

// Site is the engine of another host: what its own streams do not tell of the host, the line to
// it does.
type Site struct {
	Engine
	line *Line

	mu     sync.Mutex
	folder string // where the engine keeps its data, when that is known
	disk   disk
}

// disk is what was last found of the disk that the engine's data lies on.
type disk struct {
	at    time.Time
	free  int64 // bytes
	known bool
}

// diskEvery is how often a host is asked for its disk: each time it runs a program for that.
const diskEvery = 15 * time.Second

// At makes the site of an engine that is reached by a line.
func At(line *Line, engine Engine) *Site { return &Site{Engine: engine, line: line} }

// Kind is site.Remote.
func (*Site) Kind() site.Kind { return site.Remote }

// Examine adds to what the engine tells the disk that its data lies on, and the host's devices.
// A host that lets no command run has neither.
func (s *Site) Examine(ctx context.Context) (site.Facts, error) {
	f, err := s.Engine.Examine(ctx)
	if err != nil {
		return f, err
	}
	s.mu.Lock()
	s.folder = f.DataFolder
	s.mu.Unlock()
	if f.DiskFreeBytes, _, err = s.line.DiskFree(ctx, f.DataFolder); err != nil {
		return f, err
	}
	f.Devices, err = s.line.Devices(ctx)
	return f, err
}

// Abilities are the engine's; the disk is measured on the host.
func (s *Site) Abilities() site.Abilities {
	a := s.Engine.Abilities()
	if a.Measurer != nil {
		a.Measurer = measured{a.Measurer, s}
	}
	return a
}

// measured measures what the engine does not.
type measured struct {
	site.Measurer
	at *Site
}

// Free asks the host.
func (m measured) Free(ctx context.Context) (int64, bool, error) {
	m.at.mu.Lock()
	folder, last := m.at.folder, m.at.disk
	m.at.mu.Unlock()
	if time.Since(last.at) < diskEvery {
		return last.free, last.known, nil
	}
	free, known, err := m.at.line.DiskFree(ctx, folder) // not known, before it was examined
	if err == nil {
		m.at.mu.Lock()
		defer m.at.mu.Unlock()
		m.at.disk = disk{time.Now(), free, known}
	}
	return free, known, err
}
