// Package draft looks at a repository that has no definition and suggests one. Guesses
// about a repository are often wrong, so all that was seen is told with its place and how
// sure it is, and each way the repository could be meant is offered.
//
// The package does no I/O of its own: files come from an fs.FS.
package draft

import (
	"bytes"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"
)

// Sureness tells how sure a thing is.
type Sureness string

// The degrees of sureness.
const (
	Certain  Sureness = "certain"  // the repository says so itself
	Likely   Sureness = "likely"   // files of that kind are there
	Possible Sureness = "possible" // something looks like it
)

// Seen is one thing that was noticed in a repository.
type Seen struct {
	What  string   `json:"what"` // such as "Python" or "port 8080"
	Value string   `json:"value,omitempty"`
	File  string   `json:"file"`
	Line  int      `json:"line,omitempty"` // from 1; 0: the file as a whole
	Sure  Sureness `json:"sure"`
}

// The bounds of a look: a large repository must not take long.
const (
	maxFiles = 20_000
	maxRead  = 256 << 10 // bytes of one file
	maxDepth = 6
)

// language is what is known of a language's files.
type language struct {
	name       string
	image      string // name of the usual image; the version becomes its tag
	newest     string // the tag where the repository names no version
	extensions []string
	marks      map[string]string // file → command that brings its dependencies; "" for none
	versions   []versionMark
}

// versionMark is where a repository says which version it wants.
type versionMark struct {
	file    string
	pattern *regexp.Regexp // its first group is the version
}

var languages = []language{
	{"Go", "golang", "1", []string{".go"}, map[string]string{"go.mod": "go mod download"},
		[]versionMark{{"go.mod", regexp.MustCompile(`(?m)^go\s+(\d+\.\d+)`)}, {".tool-versions", tool("golang")}}},
	{"Python", "python", "3", []string{".py"}, map[string]string{"requirements.txt": "pip install -r requirements.txt", "pyproject.toml": "pip install -e .", "setup.py": "pip install -e .", "Pipfile.lock": "pip install pipenv && pipenv sync"},
		[]versionMark{{".python-version", plain}, {"pyproject.toml", regexp.MustCompile(`(?m)^requires-python\s*=\s*"[^0-9"]*(\d+\.\d+)`)}, {"runtime.txt", regexp.MustCompile(`python-(\d+\.\d+)`)}, {".tool-versions", tool("python")}}},
	{"JavaScript or TypeScript", "node", "lts", []string{".js", ".ts", ".tsx", ".jsx", ".mjs"}, map[string]string{"package-lock.json": "npm ci", "yarn.lock": "yarn install --frozen-lockfile", "pnpm-lock.yaml": "corepack enable && pnpm install --frozen-lockfile", "package.json": "npm install"},
		[]versionMark{{".nvmrc", plain}, {".node-version", plain}, {"package.json", regexp.MustCompile(`"node"\s*:\s*"[^0-9"]*(\d+)`)}, {".tool-versions", tool("nodejs")}}},
	{"Rust", "rust", "1", []string{".rs"}, map[string]string{"Cargo.toml": "cargo fetch"},
		[]versionMark{{"rust-toolchain.toml", regexp.MustCompile(`channel\s*=\s*"(\d+\.\d+)`)}, {"rust-toolchain", plain}, {"Cargo.toml", regexp.MustCompile(`(?m)^rust-version\s*=\s*"(\d+\.\d+)`)}}},
	{"Ruby", "ruby", "3", []string{".rb"}, map[string]string{"Gemfile": "bundle install"},
		[]versionMark{{".ruby-version", plain}, {"Gemfile", regexp.MustCompile(`(?m)^ruby\s+["'](\d+\.\d+)`)}, {".tool-versions", tool("ruby")}}},
	{"Java", "eclipse-temurin", "21", []string{".java", ".kt"}, map[string]string{"pom.xml": "", "build.gradle": "", "build.gradle.kts": ""},
		[]versionMark{{"pom.xml", regexp.MustCompile(`<(?:maven\.compiler\.(?:release|source)|java\.version)>(\d+)`)}, {"build.gradle", regexp.MustCompile(`(?:sourceCompatibility|languageVersion)\D*(\d+)`)}, {".java-version", plain}}},
	{"PHP", "php", "8", []string{".php"}, map[string]string{"composer.json": ""},
		[]versionMark{{"composer.json", regexp.MustCompile(`"php"\s*:\s*"[^0-9"]*(\d+\.\d+)`)}}},
	{"C or C++", "gcc", "12", []string{".c", ".cc", ".cpp", ".h", ".hpp"}, map[string]string{"CMakeLists.txt": "cmake -B build", "configure": "./configure"}, nil},
}

var plain = regexp.MustCompile(`^\s*v?(\d+(?:\.\d+){0,2})`)

func tool(name string) *regexp.Regexp {
	return regexp.MustCompile(`(?m)^` + name + `\s+(\d+(?:\.\d+){0,2})`)
}

// look is all that was noticed in one repository.
type look struct {
	files       fs.FS
	seen        []Seen
	extensions  map[string]int
	versions    map[string]string   // language → version
	marked      map[string][]string // language → its mark files, shallow ones first
	dockerfiles []string
	compose     []string
	ports       []port
	roots       map[string]bool // names in the top folder
}

type port struct {
	number int
	Seen
}

// skipped are folders that hold no work of the repository's people.
var skipped = []string{".git", "node_modules", "vendor", "target", "dist", "build", ".venv", "venv", "__pycache__", ".cache", "testdata", "third_party"}

var composeNames = []string{"compose.yaml", "compose.yml", "docker-compose.yaml", "docker-compose.yml"}

func lookAt(files fs.FS) (*look, error) {
	l := &look{files: files, extensions: map[string]int{}, versions: map[string]string{}, marked: map[string][]string{}, roots: map[string]bool{}}
	n := 0
	err := fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // what cannot be read says nothing
		}
		if d.IsDir() {
			if name != "." && (slices.Contains(skipped, d.Name()) || strings.Count(name, "/") >= maxDepth) {
				return fs.SkipDir
			}
			return nil
		}
		if n++; n > maxFiles {
			return fs.SkipAll
		}
		if d.Type().IsRegular() {
			l.file(name)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	l.countLanguages()
	sort.SliceStable(l.seen, func(i, j int) bool { return rank(l.seen[i].Sure) < rank(l.seen[j].Sure) })
	return l, nil
}

func rank(s Sureness) int { return slices.Index([]Sureness{Certain, Likely, Possible}, s) }

func (l *look) file(name string) {
	base := path.Base(name)
	if !strings.Contains(name, "/") {
		l.roots[name] = true
	}
	l.extensions[path.Ext(base)]++
	for _, lang := range languages {
		if _, marks := lang.marks[base]; marks {
			l.marked[lang.name] = append(l.marked[lang.name], name)
		}
		for _, v := range lang.versions {
			if base == v.file {
				l.version(lang, name, v.pattern)
			}
		}
	}
	switch {
	case base == "Dockerfile" || strings.HasPrefix(base, "Dockerfile."):
		l.dockerfiles = append(l.dockerfiles, name)
		l.seen = append(l.seen, Seen{What: "a Dockerfile", File: name, Sure: Certain})
	case slices.Contains(composeNames, base):
		l.compose = append(l.compose, name)
		l.seen = append(l.seen, Seen{What: "a Compose file", File: name, Sure: Certain})
	}
	l.lookForPorts(name)
}

func (l *look) read(name string) []byte {
	f, err := l.files.Open(name)
	if err != nil {
		return nil
	}
	defer f.Close()
	b := make([]byte, maxRead)
	n := 0
	for n < len(b) {
		m, err := f.Read(b[n:])
		n += m
		if err != nil || m == 0 {
			break
		}
	}
	return b[:n]
}

func (l *look) version(lang language, name string, pattern *regexp.Regexp) {
	b := l.read(name)
	m := pattern.FindSubmatchIndex(b)
	if m == nil {
		return
	}
	version := string(b[m[2]:m[3]])
	l.seen = append(l.seen, Seen{What: lang.name, Value: version, File: name, Line: lineAt(b, m[2]), Sure: Certain})
	if l.versions[lang.name] == "" || !strings.Contains(name, "/") {
		l.versions[lang.name] = version
	}
}

func lineAt(b []byte, offset int) int { return bytes.Count(b[:offset], []byte("\n")) + 1 }

func (l *look) countLanguages() {
	for _, lang := range languages {
		n := 0
		for _, e := range lang.extensions {
			n += l.extensions[e]
		}
		for _, mark := range l.marked[lang.name] {
			l.seen = append(l.seen, Seen{What: lang.name, Value: path.Base(mark), File: mark, Sure: Likely})
		}
		if n > 0 && len(l.marked[lang.name]) == 0 {
			sure := Possible
			if n >= 5 {
				sure = Likely
			}
			l.seen = append(l.seen, Seen{What: lang.name, Value: countWord(n), File: "*" + lang.extensions[0], Sure: sure})
		}
	}
}
