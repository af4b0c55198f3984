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
	// Ports are the numbers that ports had here, by what tells them apart.
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

// mostRemembered bounds how many ports are remembered.
const mostRemembered = 5000

func (m *memory) note(key string, port int) {
	if m.Ports[key] == port || len(m.Ports) >= mostRemembered {
		return
	}
	m.Ports[key], m.changed = port, true
}

// forget forgets a workspace that is gone.
func (m *memory) forget(workspace string) {
	before := len(m.Ports) + len(m.Opened)
	maps.DeleteFunc(m.Ports, func(key string, _ int) bool { return strings.HasPrefix(key, workspace+" ") })
	maps.DeleteFunc(m.Opened, func(key string, _ bool) bool { return strings.HasPrefix(key, workspace+" ") })
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
