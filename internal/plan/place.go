package plan

import (
	"fmt"
	"strings"

	"domicile/internal/definition"
	"domicile/internal/judge"
)

// Places tells where the settings of a container are written, as "file:line", by the field
// and the value: "CapAdd NET_RAW". The empty name is for what has no place of its own.
type Places map[string]string

func (p *Places) note(field, value, place string) {
	if *p == nil {
		*p = Places{}
	}
	if key := placeKey(field, value); (*p)[key] == "" {
		(*p)[key] = place
	}
}

// At is where a value of a field is written, or the field, or the whole.
func (p Places) At(field, value string) string {
	for _, key := range []string{placeKey(field, value), field, ""} {
		if place := p[key]; place != "" {
			return place
		}
	}
	return ""
}

func placeKey(field, value string) string {
	if value == "" {
		return field
	}
	return field + " " + value
}

// written finds where the properties of a definition are written.
type written struct {
	report *definition.Report
	*judge.Judge
}

// place names where a property is written, or where it comes from.
func (w *written) place(pointer string) string {
	r := w.report
	if r.Text != nil {
		v := r.Text.Root
		for _, name := range strings.Split(strings.TrimPrefix(pointer, "/"), "/") {
			next := v.Get(name)
			if v.Kind == definition.Array {
				var i int
				if _, err := fmt.Sscan(name, &i); err == nil && i >= 0 && i < len(v.Items) {
					next = v.Items[i]
				}
			}
			if next == nil {
				break
			}
			v = next
		}
		if v != r.Text.Root {
			return fmt.Sprintf("%s:%d", r.File, r.Text.Position(v.Offset).Line)
		}
	}
	if from := r.Origins[pointer]; from != "" {
		return "from " + from
	}
	return r.File
}
