// Package drift recognises what was installed by hand in a workspace from the paths that
// were added to it, and says what to write into the definition so that the next workspace
// has it too. It is pure: paths in, findings out.
package drift

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Finding is one thing that differs from the definition.
type Finding struct {
	Kind string `json:"kind"` // definition, workspace, apt, pip, npm or go
	Name string `json:"name"`
	Says string `json:"says"`
	Line string `json:"line,omitempty"` // what to add to the definition
}

var (
	debian = regexp.MustCompile(`^/var/lib/dpkg/info/([a-z0-9][a-z0-9+.-]*)(?::[a-z0-9]+)?\.list$`)
	python = regexp.MustCompile(`/(?:site|dist)-packages/([A-Za-z0-9._]+)-([0-9][A-Za-z0-9.!+_]*)\.(?:dist|egg)-info$`)
	node   = regexp.MustCompile(`^(?:/usr(?:/local)?|/opt/[^/]+|/home/[^/]+/\.npm-global)/lib/node_modules/((?:@[^/]+/)?[^/.@][^/]*)$`)
	goTool = regexp.MustCompile(`^(?:(?:/root|/home/[^/]+|/usr/local)/go|/go)/bin/([^/]+)$`)
)

// installers bring a package of each kind back.
var installers = []struct{ kind, command string }{
	{"apt", "sudo apt-get update && sudo apt-get install -y %s"}, {"pip", "pip install %s"}, {"npm", "npm install -g %s"}, {"go", "go install …/%s@latest"},
}

// Installed recognises packages. manual are the Debian packages that were asked for and
// did not only come with another; nil when that is not known.
func Installed(added, manual []string) (list []Finding) {
	byKind := map[string][]string{}
	note := func(kind, name string) {
		if !slices.Contains(byKind[kind], name) {
			byKind[kind] = append(byKind[kind], name)
		}
	}
	for _, p := range added {
		p = path.Clean(p)
		if m := debian.FindStringSubmatch(p); m != nil && (manual == nil || slices.Contains(manual, m[1])) {
			note("apt", m[1])
		}
		if m := python.FindStringSubmatch(p); m != nil && !strings.HasPrefix(p, "/usr/lib/python3/dist-packages") { // that is Debian's own place
			note("pip", m[1]+"=="+m[2])
		}
		if m := node.FindStringSubmatch(p); m != nil {
			note("npm", m[1])
		}
		if m := goTool.FindStringSubmatch(p); m != nil {
			note("go", m[1])
		}
	}
	for _, i := range installers {
		names := byKind[i.kind]
		slices.Sort(names)
		for _, name := range names {
			list = append(list, Finding{Kind: i.kind, Name: name, Says: "was installed by hand", Line: `"onCreateCommand": "` + fmt.Sprintf(i.command, name) + `"`})
		}
	}
	return list
}
