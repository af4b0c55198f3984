package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"domicile/internal/amount"
	"domicile/internal/definition"
	"domicile/internal/fault"
)

// Size is a named amount of processors and memory that a workspace may use at a site, and what
// that costs.
type Size struct {
	Name   string  `json:"name,omitempty"`
	CPUs   float64 `json:"cpus,omitempty"`
	Memory int64   `json:"memory,omitempty"` // bytes
	Price  Price   `json:"price,omitzero"`
}

// ParseSizes reads sizes such as "small=1:2gb,large=4:8gb:0.08EUR": a name, processors, memory,
// and what an hour costs.
func ParseSizes(text string) (list []Size, err error) {
	for part := range strings.SplitSeq(text, ",") {
		if part = strings.TrimSpace(part); part == "" {
			continue
		}
		name, amounts, _ := strings.Cut(part, "=")
		cpus, memory, found := strings.Cut(amounts, ":")
		memory, price, priced := strings.Cut(memory, ":")
		s := Size{Name: name}
		if priced {
			if s.Price, err = ParsePrice(price); err != nil {
				return nil, fault.Wrap(err, "bad-size", "write it as name=processors:memory:price, such as small=1:2gb:0.02EUR", "%q is no size", part)
			}
		}
		if s.CPUs, err = strconv.ParseFloat(cpus, 64); err != nil || !found || name == "" || s.CPUs <= 0 {
			return nil, fault.New("bad-size", "write it as name=processors:memory, such as small=1:2gb", "%q is no size", part)
		}
		if s.Memory, err = definition.ParseAmount(strings.ToLower(memory)); err != nil {
			return nil, fault.Wrap(err, "bad-size", "write it as name=processors:memory, such as small=1:2gb", "%q is no size", part)
		}
		if slices.ContainsFunc(list, func(o Size) bool { return o.Name == name }) {
			return nil, fault.New("bad-size", "give each size a name of its own", "there are two sizes %q", name)
		}
		if slices.ContainsFunc(list, func(o Size) bool { return o.Price.Hour > 0 && s.Price.Hour > 0 && o.Price.Currency != s.Price.Currency }) {
			return nil, fault.New("bad-size", "say all prices of a site in one currency", "the sizes have prices that are not in one currency")
		}
		list = append(list, s)
	}
	return list, nil
}

// ChooseSize finds a size by name; no name is the first choice that is given, or no limit.
func ChooseSize(list []Size, names ...string) (Size, error) {
	for _, name := range names {
		if name == "" {
			continue
		}
		i := slices.IndexFunc(list, func(s Size) bool { return s.Name == name })
		if i < 0 {
			var known []string
			for _, s := range list {
				known = append(known, s.String())
			}
			return Size{}, fault.New("no-size", "choose one of: "+strings.Join(known, ", "), "the site has no size %q", name)
		}
		return list[i], nil
	}
	return Size{}, nil
}

// String is a size in words.
func (s Size) String() string {
	word := "processors"
	if s.CPUs == 1 {
		word = "processor"
	}
	text := fmt.Sprintf("%s (%g %s, %s", s.Name, s.CPUs, word, amount.Of(s.Memory))
	if s.Price.Hour > 0 {
		text += ", " + s.Price.String()
	}
	return text + ")"
}

// limit gives the container the size's limits, unless the definition wants less, and
// refuses a definition that needs more than the size has.
func (p *Plan) limit(s Size, needs *definition.HostRequirements, file string) error {
	if s.Name == "" {
		return nil
	}
	if needs != nil {
		memory, err := definition.ParseAmount(needs.Memory)
		if float64(needs.CPUs) > s.CPUs || err == nil && memory > s.Memory {
			return fault.New("size-too-small", "choose a larger size with -size; domicile sites lists them", "%s: hostRequirements asks for %d processors and %s of memory, more than the size %s",
				file, needs.CPUs, orNone(needs.Memory), s)
		}
	}
	c := &p.Container
	if c.CPUs == 0 || c.CPUs > s.CPUs {
		c.CPUs = s.CPUs
	}
	if c.Memory == 0 || c.Memory > s.Memory {
		c.Memory = s.Memory
	}
	return nil
}

func orNone(amount string) string {
	if amount == "" {
		return "any amount"
	}
	return amount
}
