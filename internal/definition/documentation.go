package definition

import (
	"fmt"
	"strings"
)

// Documentation gives the table of docs/definition.md: each property of the standard,
// where it counts, how it is carried out, and what policy may refuse.
func Documentation() string {
	var b strings.Builder
	b.WriteString("| property | counts for | carried out | may be refused |\n| --- | --- | --- | --- |\n")
	for _, p := range properties {
		refused := p.refused
		if refused == "" {
			refused = "–"
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", p.name, p.kinds, p.how, refused)
	}
	return b.String()
}

// String names the kinds for which a property counts.
func (k kinds) String() string {
	if k == forAny {
		return "all kinds"
	}
	var list []string
	for _, one := range []struct {
		bit  kinds
		name string
	}{{forImage, "image"}, {forDockerfile, "Dockerfile"}, {forCompose, "Compose"}} {
		if k&one.bit != 0 {
			list = append(list, one.name)
		}
	}
	return strings.Join(list, ", ")
}
