package vm

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"regexp"

	"domicile/internal/fault"
	"domicile/internal/site/machine"
)

// templateNames are what names of templates look like.
var templateNames = regexp.MustCompile(`^t[0-9a-f]{16}$`)

// inUse are the templates that machines come from: their disks are what those of the machines
// begin with.
func (m *Maker) inUse() (map[string]bool, error) {
	entries, err := os.ReadDir(m.in("machines"))
	if err != nil {
		return nil, fmt.Errorf("list the machines: %w", err)
	}
	used := map[string]bool{}
	for _, e := range entries {
		if machine.JudgeID(e.Name()) != nil {
			continue
		}
		_, r, err := m.read(e.Name())
		switch {
		case fault.Code(err) == "machine-gone": // it is just being made, or removed
		case err != nil:
			return nil, err
		default:
			used[r.Template] = true
		}
	}
	return used, nil
}

// Spares lists the templates that no machine comes from.
func (m *Maker) Spares(context.Context) (list []machine.Spare, err error) {
	used, err := m.inUse()
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(m.in("templates"))
	if err != nil {
		return nil, fmt.Errorf("list the templates: %w", err)
	}
	for _, e := range entries {
		if !templateNames.MatchString(e.Name()) || used[e.Name()] {
			continue
		}
		info, err := os.Stat(m.in("templates", e.Name(), stateName))
		if errors.Is(err, fs.ErrNotExist) {
			continue // it is being made
		}
		if err != nil {
			return nil, fmt.Errorf("look at a template: %w", err)
		}
		list = append(list, machine.Spare{Name: e.Name(), Bytes: takes(m.in("templates", e.Name())), Used: info.ModTime()})
	}
	return list, nil
}

// RemoveSpare removes a template, while no machine is made from one.
func (m *Maker) RemoveSpare(ctx context.Context, name string) error {
	if !templateNames.MatchString(name) {
		return fault.New("bad-id", "", "%q is the name of no template", name)
	}
	if !m.making.TryLock() {
		return fault.Transient(nil, "made-twice", "", "a machine is just being made from a template")
	}
	defer m.making.Unlock()
	used, err := m.inUse()
	if err != nil {
		return err
	}
	if used[name] {
		return fault.New("site-in-use", "remove the workspaces that come from it first", "a machine comes from the template %s by now", name)
	}
	if err := os.RemoveAll(m.in("templates", name)); err != nil {
		return fmt.Errorf("remove the template %s: %w", name, err)
	}
	return nil
}
