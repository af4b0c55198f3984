// Package compose reads Compose files of an untrusted repository: it finds all files that
// they refer to, refuses those that lie outside, and merges them with the Compose
// project's own loader. What is read stays data; starting it is the sites' part.
package compose

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/compose-spec/compose-go/v2/dotenv"
	"github.com/compose-spec/compose-go/v2/loader"
	"github.com/compose-spec/compose-go/v2/types"
	"github.com/sirupsen/logrus"

	"domicile/internal/definition"
)

// The bounds of what is read. A Compose file of a person has some hundred lines.
const (
	maxSize  = 1 << 20
	maxFiles = 64
	maxNodes = 200_000
)

// Project is a merged Compose project whose paths are relative to the repository.
type Project struct {
	*types.Project
	// Files are the contents of all files that were read, by path inside the repository.
	Files   map[string][]byte
	texts   []*text
	refused []Refusal // what is not carried out
	// profiles are those that the environment makes active.
	profiles []string
}

// silence keeps the loader's own remarks from the program's output; it has one logger for
// the whole process.
var silence = sync.OnceFunc(func() { logrus.SetOutput(io.Discard) })

// Load reads and merges the files, given as paths inside the repository. A nil project
// comes with at least one problem that is an error.
func Load(ctx context.Context, files fs.FS, paths []string, environment func(string) (string, bool)) (p *Project, problems []definition.Problem) {
	silence()
	s := &staging{files: files, seen: map[string]*text{}}
	for _, name := range paths {
		s.add(name, "", 0)
	}
	if len(s.problems) > 0 {
		return nil, s.problems
	}
	if len(s.order) == 0 {
		return nil, []definition.Problem{{Severity: definition.Error, Code: "bad-compose", Message: "no Compose file is named"}}
	}
	root, done, err := s.write()
	if err != nil {
		return nil, []definition.Problem{{Severity: definition.Error, Code: "bad-compose", File: paths[0], Message: err.Error()}}
	}
	defer done()
	defer func() {
		if r := recover(); r != nil { // of the loader; a hostile file must not take the service with it
			p, problems = nil, []definition.Problem{{Severity: definition.Error, Code: "bad-compose", File: paths[0], Line: 1, Column: 1, Message: fmt.Sprintf("this cannot be read as Compose files (%v)", r)}}
		}
	}()
	folder := path.Dir(paths[0])
	env := s.environment(folder, environment)
	details := types.ConfigDetails{WorkingDir: filepath.Join(root, folder), Environment: env}
	load := func() (*types.Project, error) {
		details.ConfigFiles = nil
		for _, name := range paths {
			details.ConfigFiles = append(details.ConfigFiles, types.ConfigFile{Filename: filepath.Join(root, name), Content: s.seen[path.Clean(name)].plain})
		}
		return loader.LoadWithContext(ctx, details, func(o *loader.Options) {
			o.SetProjectName("workspace", true)
			o.SkipResolveEnvironment = true // its files are read below, inside the repository
			o.SkipResolveLabels = true
			o.MaxNodeVisits = maxNodes
			o.Profiles = []string{"*"}
			o.ResourceLoaders = []loader.ResourceLoader{staged{root, s}}
		})
	}
	project, err := load()
	for err != nil && len(problems) < mostWrong {
		wrong := s.explain(err, root, paths[0])
		if slices.Contains(problems, wrong) {
			break
		}
		problems = append(problems, wrong)
		// The loader names the first element that is wrong: without it, it names the next one.
		if !s.takeOut(err) {
			break
		}
		_, err = load()
	}
	if len(problems) > 0 {
		return nil, problems
	}
	p = &Project{Project: project, Files: map[string][]byte{}, texts: s.order}
	p.relative(root)
	p.profiles = strings.FieldsFunc(env["COMPOSE_PROFILES"], func(r rune) bool { return r == ',' || r == ' ' })
	problems = p.environmentFiles(files, env)
	for name, t := range s.seen {
		p.Files[name] = t.bytes
	}
	return p, problems
}

// environment is what ${NAME} in the files stands for: the file .env beside the first of
// them, and what is given, which wins.
func (s *staging) environment(folder string, given func(string) (string, bool)) types.Mapping {
	env := types.Mapping{}
	b, err := readBounded(s.files, path.Join(folder, ".env"))
	if err == nil {
		s.extra(path.Join(folder, ".env"), b)
		values, err := dotenv.ParseWithLookup(bytes.NewReader(b), given)
		if err != nil {
			s.tell(path.Join(folder, ".env"), 1, "bad-compose", "this environment file cannot be read: %v", err)
		}
		for name, value := range values {
			env[name] = value
		}
	}
	if given == nil {
		return env
	}
	for _, t := range s.order {
		for _, m := range variable.FindAllSubmatch(t.bytes, -1) {
			name := string(m[1])
			if value, known := given(name); known {
				env[name] = value
			}
		}
	}
	return env
}

var variable = regexp.MustCompile(`\$\{?([A-Za-z_][A-Za-z0-9_]*)`)

// relative makes the loader's absolute paths those of the repository.
func (p *Project) relative(root string) {
	inside := func(s string) string {
		if s == root {
			return "."
		}
		return strings.TrimPrefix(s, root+string(filepath.Separator))
	}
	for name, s := range p.Services {
		if s.Build != nil {
			s.Build.Context = inside(s.Build.Context)
			for context, of := range s.Build.AdditionalContexts {
				s.Build.AdditionalContexts[context] = inside(of)
			}
		}
		for i := range s.EnvFiles {
			s.EnvFiles[i].Path = inside(s.EnvFiles[i].Path)
		}
		for i := range s.Volumes {
			if s.Volumes[i].Type == types.VolumeTypeBind {
				s.Volumes[i].Source = sourcePath(root, s.Volumes[i].Source)
			}
		}
		p.Services[name] = s
	}
	for name, s := range p.Secrets {
		s.File = inside(s.File)
		p.Secrets[name] = s
	}
	for name, c := range p.Configs {
		c.File = inside(c.File)
		p.Configs[name] = c
	}
}

// sourcePath marks a bind mount of the repository's own files with ./, and one of the folder
// that it lies in with ..; all others are paths of the host.
func sourcePath(root, s string) string {
	switch s {
	case root:
		return "./"
	case filepath.Dir(root):
		return ".."
	}
	if rest, found := strings.CutPrefix(s, root+string(filepath.Separator)); found {
		return "./" + rest
	}
	return s
}

// environmentFiles reads the services' env_file, each inside the repository.
func (p *Project) environmentFiles(files fs.FS, env types.Mapping) (problems []definition.Problem) {
	for _, name := range p.ServiceNames() {
		s := p.Services[name]
		values := types.MappingWithEquals{}
		for _, f := range s.EnvFiles {
			file, line := p.place(name, "env_file")
			if filepath.IsAbs(f.Path) || !fs.ValidPath(f.Path) {
				problems = append(problems, problem(file, line, "outside-repository", "service %s: its environment file leads out of the repository: %s", name, f.Path))
				continue
			}
			b, err := readBounded(files, f.Path)
			if err != nil {
				if f.Required {
					problems = append(problems, problem(file, line, "no-environment-file", "service %s: cannot read its environment file %s: %v", name, f.Path, err))
				}
				continue
			}
			p.Files[f.Path] = b
			parsed, err := dotenv.ParseWithLookup(bytes.NewReader(b), func(n string) (string, bool) { v, ok := env[n]; return v, ok })
			if err != nil {
				problems = append(problems, problem(f.Path, 1, "bad-environment-file", "this environment file cannot be read: %v", err))
			}
			for k, v := range parsed {
				values[k] = &v
			}
		}
		for k, v := range s.Environment {
			if v == nil {
				if known, ok := env[k]; ok {
					v = &known
				}
			}
			values[k] = v
		}
		s.Environment = values
		p.Services[name] = s
	}
	return problems
}

func readBounded(files fs.FS, name string) ([]byte, error) {
	info, err := fs.Stat(files, name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > maxSize {
		return nil, fmt.Errorf("it is no file of at most %d bytes", maxSize)
	}
	return fs.ReadFile(files, name)
}

// mostWrong bounds how many wrong elements are named.
const mostWrong = 20

// takeOut takes the element that an error of the loader's names out of the text that has it. false: none does, or the
// error is not about an element.
func (s *staging) takeOut(err error) bool {
	names := strings.Split(elementPath.FindString(err.Error()), ".")
	if len(names) < 3 {
		return false
	}
	for _, t := range s.order {
		if !t.takeOut(names) {
			continue
		}
		plain, err := write(t.root)
		if err != nil {
			return false
		}
		t.plain = plain
		return true
	}
	return false
}

// explain turns the loader's error into a problem at its line.
func (s *staging) explain(err error, root, file string) definition.Problem {
	message := strings.ReplaceAll(err.Error(), root+string(filepath.Separator), "")
	message = strings.ReplaceAll(message, root, ".")
	line := 1
	for _, t := range s.order {
		if strings.Contains(message, t.file) {
			file = t.file
		}
	}
	if m := elementPath.FindString(message); m != "" {
		for _, t := range s.order {
			if l := t.line(strings.Split(m, ".")...); l > 0 {
				file, line = t.file, l
			}
		}
	}
	if m := undefined.FindStringSubmatch(message); m != nil {
		for _, t := range s.order {
			for _, way := range [][]string{{"depends_on", m[2]}, {"depends_on"}, {"network_mode"}, {}} {
				if l := t.line(append([]string{"services", m[1] + m[3]}, way...)...); l > 0 {
					file, line = t.file, l
					break
				}
			}
		}
	}
	message = strings.TrimPrefix(message, "validating "+file+": ")
	if element, unknown := strings.CutSuffix(message, " false schema"); unknown {
		message = element + " is nothing that Compose knows"
	}
	return problem(file, line, "bad-compose", "%s", message)
}

// undefined finds the service that names something that is not there, and what it names, or
// one that waits for itself.
var undefined = regexp.MustCompile(`(?:service "([^"]+)" depends on undefined \w+ "?([^":]+)"?|dependency cycle detected: (\S+) -> )`)

var elementPath = regexp.MustCompile(`\b(?:services|networks|volumes|configs|secrets)(?:\.[A-Za-z0-9_-]+)+`)

func problem(file string, line int, code, format string, args ...any) definition.Problem {
	return definition.Problem{Severity: definition.Error, Code: code, File: file, Line: max(line, 1), Column: 1, Message: fmt.Sprintf(format, args...)}
}

// place finds where a service's attribute is written: the last file counts.
func (p *Project) place(service string, attribute ...string) (file string, line int) {
	for _, t := range slices.Backward(p.texts) {
		for n := len(attribute); n >= 0; n-- {
			if l := t.line(append([]string{"services", service}, attribute[:n]...)...); l > 0 {
				return t.file, l
			}
		}
	}
	return p.texts[0].file, 1
}

// staged lets the loader read nothing beside the files that were looked at. It never reads
// one itself: where it refuses, loading ends, and else the loader's own way is taken.
type staged struct {
	root string
	s    *staging
}

// Accept takes every name that does not lead to a staged file.
func (l staged) Accept(name string) bool {
	clean := filepath.Clean(name)
	for staged := range l.s.seen {
		if clean == filepath.Join(l.root, staged) || !filepath.IsAbs(clean) && (clean == staged || strings.HasSuffix(staged, "/"+strings.TrimLeft(clean, "./"))) {
			return false
		}
	}
	return true
}

// Load refuses.
func (l staged) Load(_ context.Context, name string) (string, error) {
	return "", fmt.Errorf("only files of the repository are read, not %s", name)
}

// Dir is not asked.
func (l staged) Dir(string) string { return l.root }

// nowhere is where the repository is said to be where nothing is laid out. What lies above
// it must be no folder that a file may mean.
const nowhere = "/domicile-compose/repository"

// write lays the files out where the loader finds them. Where none refers to another,
// nothing is written: the loader is given the texts.
func (s *staging) write() (root string, done func(), err error) {
	if !s.refers {
		return nowhere, func() {}, nil
	}
	over, err := os.MkdirTemp("", "domicile-compose-")
	if err != nil {
		return "", nil, fmt.Errorf("make a folder to read the Compose files from: %w", err)
	}
	root = filepath.Join(over, "repository") // what lies above it is nobody's
	done = func() { _ = os.RemoveAll(over) } // a leftover in the temporary folder harms nobody
	for name, t := range s.seen {
		to := filepath.Join(root, name)
		if err = os.MkdirAll(filepath.Dir(to), 0o700); err == nil {
			err = os.WriteFile(to, t.plain, 0o600)
		}
		if err != nil {
			done()
			return "", nil, fmt.Errorf("lay out the Compose files: %w", err)
		}
	}
	return root, done, nil
}
