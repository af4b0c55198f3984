package definition

import (
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"strconv"
)

// HostRequirements is what a definition needs of the place that holds it.
type HostRequirements struct {
	CPUs    int    `json:"cpus,omitempty"`
	Memory  string `json:"memory,omitempty"`  // such as "8gb"
	Storage string `json:"storage,omitempty"` // such as "32gb"
	GPU     any    `json:"gpu,omitempty"`     // true, false, "optional" or {cores, memory}
}

var amount = regexp.MustCompile(`^(\d+)([tgmk]b)?$`)

// ParseAmount reads an amount such as "8gb" (tb, gb, mb, kb, or bytes) into bytes.
func ParseAmount(s string) (int64, error) {
	m := amount.FindStringSubmatch(s)
	if m == nil {
		return 0, fmt.Errorf("%q is no amount: a whole number with tb, gb, mb or kb is wanted", s)
	}
	n, err := strconv.ParseInt(m[1], 10, 64)
	unit := map[string]int64{"tb": 1 << 40, "gb": 1 << 30, "mb": 1 << 20, "kb": 1 << 10, "": 1}[m[2]]
	if err != nil || n > math.MaxInt64/unit {
		return 0, fmt.Errorf("%q is larger than any host", s)
	}
	return n * unit, nil
}

func largerAmount(a, b string) string {
	x, errX := ParseAmount(a)
	y, errY := ParseAmount(b)
	if errX != nil || (errY == nil && y > x) {
		return b
	}
	return a
}

func (c *checker) amount(v *Value, path string) {
	if v.Kind == Number {
		c.integer(v, path, 0, math.MaxInt)
		return
	}
	if !c.expect(v, path, String) {
		return
	}
	if _, err := ParseAmount(v.Str); err != nil {
		c.wrong(v, path, "bad-amount", "%s: %v", display(path), err)
	}
}

func (c *checker) hostRequirements(v *Value, path string) {
	c.members(v, path, map[string]func(*checker, *Value, string){
		"cpus":    func(c *checker, v *Value, path string) { c.integer(v, path, 1, 1<<16) },
		"memory":  (*checker).amount,
		"storage": (*checker).amount,
		"gpu":     (*checker).gpu,
	})
}

func (c *checker) gpu(v *Value, path string) {
	switch {
	case v.Kind == Bool, v.Kind == String && v.Str == "optional":
	case v.Kind == Object:
		c.members(v, path, map[string]func(*checker, *Value, string){
			"cores":  func(c *checker, v *Value, path string) { c.integer(v, path, 1, 1<<20) },
			"memory": (*checker).amount,
		})
	default:
		c.wrong(v, path, "wrong-type", "%s must be true, false, \"optional\" or an object of cores and memory, not %s", display(path), v.Kind)
	}
}

// UnmarshalJSON accepts amounts written as numbers of bytes too.
func (h *HostRequirements) UnmarshalJSON(b []byte) error {
	var raw struct {
		CPUs            int
		Memory, Storage json.RawMessage
		GPU             any
	}
	if err := json.Unmarshal(b, &raw); err != nil {
		return err
	}
	*h = HostRequirements{CPUs: raw.CPUs, GPU: raw.GPU, Memory: unquote(raw.Memory), Storage: unquote(raw.Storage)}
	return nil
}

func unquote(b json.RawMessage) string {
	var s string
	if json.Unmarshal(b, &s) == nil {
		return s
	}
	return string(b)
}
