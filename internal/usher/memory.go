package usher

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"strings"
)

// memory is what the usher knows from earlier times.
type memory struct {
	path    string
	changed bool
	// Ports are the numbers that ports had here where that was not their own, by what tells them apart.
	Ports map[string]int `json:"ports"`
	// Opened tells for which a browser was opened already.
	Opened map[string]bool `json:"opened"`
}

// remember reads a memory. One that cannot be understood is begun anew: it holds habits alone.
func remember(path string) (memory, error) {
	m := memory{path: path}
	b, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return m, fmt.Errorf("read which port was where: %w", err)
	}
	if json.Unmarshal(b, &m) != nil || m.Ports == nil {
		m.Ports = map[string]int{}
	}
	if m.Opened == nil {
		m.Opened = map[string]bool{}
	}
	return m, nil
}

// mostRemembered bounds how much is remembered of each kind: then it is begun anew.
const mostRemembered = 5000

// note notes which number a port has.
func (m *memory) note(w Want, port int) {
	before := m.Ports[w.key()]
	switch {
	case port == w.Port && before != 0:
		delete(m.Ports, w.key())
	case port != w.Port && before != port:
		if len(m.Ports) >= mostRemembered {
			clear(m.Ports)
		}
		m.Ports[w.key()] = port
	default:
		return
	}
	m.changed = true
}

// opened notes that a browser was opened for a port.
func (m *memory) opened(w Want) {
	if len(m.Opened) >= mostRemembered {
		clear(m.Opened)
	}
	m.Opened[w.key()], m.changed = true, true
}

// keepOnly forgets workspaces that are gone, also those that went while no usher was at work.
func (m *memory) keepOnly(there func(workspace string) bool) {
	before := len(m.Ports) + len(m.Opened)
	gone := func(key string) bool {
		workspace, _, _ := strings.Cut(key, " ")
		return !there(workspace)
	}
	maps.DeleteFunc(m.Ports, func(key string, _ int) bool { return gone(key) })
	maps.DeleteFunc(m.Opened, func(key string, _ bool) bool { return gone(key) })
	m.changed = m.changed || before != len(m.Ports)+len(m.Opened)
}

// keep writes the memory where it has changed.
func (m *memory) keep() error {
	if !m.changed {
		return nil
	}
	b, err := json.Marshal(m)
	if err == nil {
		err = replace(m.path, b, 0o600)
	}
	if err == nil {
		m.changed = false
	}
	return err
}
