package definition

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"strings"
)

// Mount is one entry of `mounts`, or `workspaceMount`.
type Mount struct {
	Type     string `json:"type"` // bind, volume or tmpfs
	Source   string `json:"source,omitempty"`
	Target   string `json:"target"`
	ReadOnly bool   `json:"readonly,omitempty"`
}

// ParseMount reads a mount in the syntax of an engine's `--mount`: key=value pairs
// parted by commas. A key that has no equivalent is an error, never dropped.
func ParseMount(s string) (Mount, error) {
	m := Mount{Type: "volume"}
	for _, part := range strings.Split(s, ",") {
		key, value, hasValue := strings.Cut(strings.TrimSpace(part), "=")
		switch strings.ToLower(key) {
		case "type":
			m.Type = value
		case "source", "src":
			m.Source = value
		case "target", "dst", "destination":
			m.Target = value
		case "readonly", "ro":
			m.ReadOnly = !hasValue || value == "true" || value == "1"
		case "consistency":
			// A hint for engines on other systems; it changes nothing here.
		default:
			return m, fmt.Errorf("%q has no equivalent; type, source, target and readonly have", key)
		}
	}
	return m, m.check()
}

// check names all that is wrong with a mount.
func (m Mount) check() error {
	var wrong []string
	switch m.Type {
	case "bind", "volume", "tmpfs":
	default:
		wrong = append(wrong, fmt.Sprintf("type %q is not one of bind, volume, tmpfs", m.Type))
	}
	switch {
	case m.Target == "":
		wrong = append(wrong, "target is missing")
	case !path.IsAbs(m.Target) && !strings.HasPrefix(m.Target, "${"):
		wrong = append(wrong, fmt.Sprintf("target %q is not an absolute path", m.Target))
	}
	if m.Type == "bind" && m.Source == "" {
		wrong = append(wrong, "a bind mount needs a source")
	}
	if len(wrong) > 0 {
		return errors.New(strings.Join(wrong, "; "))
	}
	return nil
}

// UnmarshalJSON reads the string and the object form.
func (m *Mount) UnmarshalJSON(b []byte) (err error) {
	var s string
	if json.Unmarshal(b, &s) == nil {
		*m, err = ParseMount(s)
		return err
	}
	type plain Mount
	p := plain{Type: "volume"}
	if err := json.Unmarshal(b, &p); err != nil {
		return err
	}
	*m = Mount(p)
	return m.check()
}

func (c *checker) mount(v *Value, path string) {
	if !c.expect(v, path, String) {
		return
	}
	if _, err := ParseMount(v.Str); err != nil {
		c.wrong(v, path, "bad-mount", "%s: %v", display(path), err)
	}
}

// workspaceMount may be empty: then the source is not mounted at all.
func (c *checker) workspaceMount(v *Value, path string) {
	if v.Kind != String || v.Str != "" {
		c.mount(v, path)
	}
}

func (c *checker) mounts(v *Value, path string) {
	if !c.expect(v, path, Array) {
		return
	}
	for i, item := range v.Items {
		at := pointer(path, i)
		if item.Kind == String {
			c.mount(item, at)
			continue
		}
		before := len(c.list)
		c.members(item, at, map[string]func(*checker, *Value, string){
			"type": oneOf("bind", "volume", "tmpfs"), "source": (*checker).text, "target": (*checker).text,
		})
		if len(c.list) > before {
			continue
		}
		var m Mount
		b, err := json.Marshal(item.Any())
		if err == nil {
			err = m.UnmarshalJSON(b)
		}
		if err != nil {
			c.wrong(item, at, "bad-mount", "%s: %v", display(at), err)
		}
	}
}
