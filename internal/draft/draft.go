package draft

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"sort"
	"strconv"
	"strings"
)

// Draft is what was seen in a repository and what could be written for it.
type Draft struct {
	Seen []Seen `json:"seen"`
	// Ways are the definitions that could be meant, the surest first. There is always one.
	Ways []Way `json:"ways"`
}

// Way is one definition that could be meant.
type Way struct {
	Name string   `json:"name"` // short, to choose it by
	Why  string   `json:"why"`
	Sure Sureness `json:"sure"`
	Text string   `json:"text"` // of .devcontainer/devcontainer.json
}

// File is where a draft is written.
const File = ".devcontainer/devcontainer.json"

// Make looks at a repository's files and drafts definitions for it.
func Make(files fs.FS) (*Draft, error) {
	l, err := lookAt(files)
	if err != nil {
		return nil, fmt.Errorf("look at the repository: %w", err)
	}
	d := &Draft{Seen: l.seen}
	for _, c := range l.compose {
		if service := firstService(l.read(c)); service != "" {
			d.Ways = append(d.Ways, Way{"compose", fmt.Sprintf("the services of %s together; the work is done in %s", c, service), Certain, l.text(nil,
				setting{"dockerComposeFile", relative(c)}, setting{"service", service}, setting{"workspaceFolder", "/workspace"})})
		}
	}
	for _, f := range l.dockerfiles {
		if strings.HasPrefix(f, ".devcontainer/") {
			continue
		}
		d.Ways = append(d.Ways, Way{"dockerfile", "the image that " + f + " describes; if it describes what is shipped rather than where it is made, choose a language instead", Likely,
			l.text(nil, setting{"build", map[string]string{"dockerfile": relative(f), "context": relative(path.Dir(f))}})})
		break
	}
	d.Ways = append(d.Ways, l.languageWays()...)
	if len(d.Ways) == 0 {
		d.Ways = []Way{{"plain", "nothing tells of a language; a plain system to begin with", Possible, l.text(nil, setting{"image", "debian:12"})}}
	}
	sort.SliceStable(d.Ways, func(i, j int) bool { return rank(d.Ways[i].Sure) < rank(d.Ways[j].Sure) })
	return d, nil
}

// languageWays offers one way for each language, the most used first.
func (l *look) languageWays() (ways []Way) {
	type candidate struct {
		language
		files int
		sure  Sureness
	}
	var list []candidate
	for _, lang := range languages {
		c := candidate{language: lang, sure: Possible}
		for _, e := range lang.extensions {
			c.files += l.extensions[e]
		}
		if len(l.marked[lang.name]) > 0 || c.files >= 5 {
			c.sure = Likely
		}
		if c.files > 0 || len(l.marked[lang.name]) > 0 {
			list = append(list, c)
		}
	}
	sort.SliceStable(list, func(i, j int) bool {
		if list[i].sure != list[j].sure {
			return rank(list[i].sure) < rank(list[j].sure)
		}
		return list[i].files > list[j].files
	})
	for _, c := range list {
		version, why := l.versions[c.name], fmt.Sprintf("%s, %s", c.name, countWord(c.files))
		if version == "" {
			version = c.newest
			why += "; no file says which version"
		} else {
			why += ", version " + version
		}
		ways = append(ways, Way{strings.ToLower(strings.Fields(c.name)[0]), why, c.sure, l.text(l.commands(c.language), setting{"image", c.image + ":" + version})})
	}
	return ways
}

func countWord(n int) string {
	if n == 1 {
		return "1 file"
	}
	return strconv.Itoa(n) + " files"
}

// commands bring the dependencies that the marks in the top folder name.
func (l *look) commands(lang language) (list []string) {
	for _, mark := range l.marked[lang.name] {
		if command := lang.marks[mark]; command != "" && l.roots[mark] {
			if mark == "package.json" && (l.roots["package-lock.json"] || l.roots["yarn.lock"] || l.roots["pnpm-lock.yaml"]) {
				continue
			}
			list = append(list, command)
		}
	}
	return list
}

type setting struct {
	name  string
	value any
}

// text writes a definition with a comment at all that was guessed.
func (l *look) text(commands []string, first ...setting) string {
	var b strings.Builder
	b.WriteString("{\n  // Drafted from what the repository shows. Correct what is wrong, then: domicile check\n")
	for _, s := range first {
		fmt.Fprintf(&b, "  %s: %s,\n", quoted(s.name), quoted(s.value))
	}
	if len(l.ports) > 0 {
		b.WriteString("\n  // Seen in:")
		for _, p := range l.ports {
			fmt.Fprintf(&b, " %s:%d", p.File, p.Line)
		}
		b.WriteString("\n  \"forwardPorts\": [")
		for i, p := range l.ports {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(strconv.Itoa(p.number))
		}
		b.WriteString("],\n")
	}
	if len(commands) > 0 {
		fmt.Fprintf(&b, "\n  \"updateContentCommand\": %s,\n", quoted(strings.Join(commands, " && ")))
	}
	b.WriteString("}\n")
	return b.String()
}

func quoted(v any) string {
	b, err := json.Marshal(v)
	if err != nil { // strings and maps of strings always encode
		return `""`
	}
	return strings.ReplaceAll(strings.ReplaceAll(string(b), `\u0026`, "&"), `":"`, `": "`)
}

// relative makes a path of the repository one relative to .devcontainer.
func relative(p string) string { return path.Join("..", p) }

var serviceName = regexp.MustCompile(`(?m)^services:\s*\n(?:\s*#.*\n|\s*\n)*[ \t]+([A-Za-z0-9._-]+):`)

// firstService is the first service of a Compose file: people name their own first.
func firstService(text []byte) string {
	if m := serviceName.FindSubmatch(text); m != nil {
		return string(m[1])
	}
	return ""
}
