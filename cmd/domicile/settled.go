//go:build linux && !client

package main

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"golang.org/x/sys/unix"

	"domicile/internal/definition"
	"domicile/internal/fault"
)

// variableOf is the variable of a flag.
func variableOf(name string) string {
	return "DOMICILE_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
}

// notInFile are the flags that are no settings: what is done once, and where the file is.
var notInFile = []string{"config", "restore", "check"}

// settle takes over what is not given as a flag: from its variable, else from the file of settings, else
// it is as usual.
func (s *settings) settle(f *flag.FlagSet) error {
	given := map[string]bool{}
	f.Visit(func(x *flag.Flag) { given[x.Name] = true })
	var wrong error
	f.VisitAll(func(x *flag.Flag) {
		value := os.Getenv(variableOf(x.Name))
		if value == "" || given[x.Name] || x.Name == "restore" || x.Name == "check" || wrong != nil {
			return
		}
		given[x.Name] = true
		if err := f.Set(x.Name, value); err != nil {
			wrong = wrongUse("%s is %q: %v", variableOf(x.Name), value, err)
		}
	})
	if wrong != nil {
		return wrong
	}
	if err := s.fromFile(f, given); err != nil {
		return err
	}
	if s.databaseFile != "" {
		if s.database != "" {
			return wrongUse("-database and -database-file name the database both")
		}
		b, err := os.ReadFile(s.databaseFile)
		if err != nil {
			return fault.Wrap(err, "no-database", "write the database's address into it, or name another file", "cannot read -database-file")
		}
		s.database = strings.TrimSpace(string(b))
	}
	return nil
}

// mostConfig is how large a file of settings may be, in bytes.
const mostConfig = 1 << 20

func (s *settings) fromFile(f *flag.FlagSet, given map[string]bool) error {
	file := s.config
	if file == "" {
		file = usualConfig()
		if _, err := os.Stat(file); err != nil { // there is none, or none in a folder of this user's
			return nil
		}
	}
	b, err := os.ReadFile(file)
	if err == nil && len(b) > mostConfig {
		err = fmt.Errorf("it has more than %d bytes", mostConfig)
	}
	if err != nil {
		return fault.Wrap(err, "bad-config", "name another with -config", "cannot read the settings in %s", file)
	}
	values := map[string]any{}
	if err := toml.Unmarshal(b, &values); err != nil {
		var at *toml.DecodeError
		if errors.As(err, &at) {
			line, column := at.Position()
			return fault.New("bad-config", "write it as TOML: name = \"value\"", "%s:%d:%d: %s", file, line, column, strings.TrimPrefix(at.Error(), "toml: "))
		}
		return fault.Wrap(err, "bad-config", "write it as TOML: name = \"value\"", "cannot read the settings in %s", file)
	}
	lines := linesOf(string(b))
	for _, key := range slices.SortedFunc(maps.Keys(values), func(x, y string) int { return cmp.Or(cmp.Compare(lines[x], lines[y]), cmp.Compare(x, y)) }) {
		at := fmt.Sprintf("%s:%d", file, lines[key])
		if f.Lookup(key) == nil || slices.Contains(notInFile, key) {
			return unknownKey(f, at, key)
		}
		value, err := written(values[key])
		if err != nil {
			return fault.New("bad-config", "domicile serve -h tells what it may be", "%s: %s: %v", at, key, err)
		}
		if given[key] {
			continue
		}
		if err := f.Set(key, value); err != nil {
			return fault.New("bad-config", "domicile serve -h tells what it may be", "%s: %s cannot be %q: %v", at, key, value, err)
		}
	}
	return nil
}

// unknownKey tells of a key that no setting has, and which is likely meant.
func unknownKey(f *flag.FlagSet, at, key string) error {
	var known []string
	f.VisitAll(func(x *flag.Flag) {
		if !slices.Contains(notInFile, x.Name) {
			known = append(known, x.Name)
		}
	})
	remedy := "remove it; domicile serve -h lists all"
	if likely := definition.Closest(strings.ReplaceAll(key, "_", "-"), known); likely != "" {
		remedy = "write " + likely
	}
	return fault.New("bad-config", remedy, "%s: there is no setting %s", at, key)
}

// keyAtBegin is where a key or the head of a table begins a line.
var keyAtBegin = regexp.MustCompile(`^\s*\[*\s*"?([A-Za-z0-9_-]+)`)

// linesOf tells at which line each key is first. Text within a value of several lines may look like
// one: then it is told of a line that is not the key's, and nothing else is wrong.
func linesOf(text string) map[string]int {
	lines := map[string]int{}
	for i, line := range strings.Split(text, "\n") {
		if m := keyAtBegin.FindStringSubmatch(line); m != nil && lines[m[1]] == 0 {
			lines[m[1]] = i + 1
		}
	}
	return lines
}

// written is a value as a flag has it: of a list the words with commas between, of a table NAME=VALUE.
func written(value any) (string, error) {
	switch v := value.(type) {
	case string, bool, int64, float64:
		return fmt.Sprint(v), nil
	case []any:
		var words []string
		for _, x := range v {
			if _, isText := x.(string); !isText {
				return "", fmt.Errorf("a list of texts is wanted, and %v is none", x)
			}
			words = append(words, x.(string))
		}
		return strings.Join(words, ","), nil
	case map[string]any:
		var words []string
		for _, name := range slices.Sorted(maps.Keys(v)) {
			text, isText := v[name].(string)
			if !isText {
				return "", fmt.Errorf("%s must be a text", name)
			}
			words = append(words, name+"="+text)
		}
		return strings.Join(words, ","), nil
	}
	return "", fmt.Errorf("%v is no text, number, list or table", value)
}

// usualConfig is where the file of settings is looked for.
func usualConfig() string {
	if os.Getuid() == 0 {
		return "/etc/domicile.toml"
	}
	folder, err := os.UserConfigDir()
	if err != nil {
		return "/etc/domicile.toml"
	}
	return filepath.Join(folder, "domicile", "service.toml")
}

// usualData is where the data are.
func usualData() string {
	if os.Getuid() == 0 {
		return "/var/lib/domicile"
	}
	if folder := os.Getenv("XDG_DATA_HOME"); filepath.IsAbs(folder) {
		return filepath.Join(folder, "domicile")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "/var/lib/domicile"
	}
	return filepath.Join(home, ".local", "share", "domicile")
}

// usualEngines are the sockets of container engines, in the order in which they are looked for: a
// user's own come first.
func usualEngines() []string {
	list := []string{"/var/run/docker.sock", "/run/podman/podman.sock"}
	if own := os.Getenv("XDG_RUNTIME_DIR"); filepath.IsAbs(own) && os.Getuid() != 0 {
		list = append([]string{filepath.Join(own, "docker.sock"), filepath.Join(own, "podman", "podman.sock")}, list...)
	}
	return list
}

// findEngine is the first of them that this user may open; "" where there is none. Closed is one that
// is there and may not be opened.
func findEngine() (address, closed string) {
	for _, socket := range usualEngines() {
		if info, err := os.Stat(socket); err != nil || info.Mode().Type() != fs.ModeSocket {
			continue
		}
		if unix.Access(socket, unix.R_OK|unix.W_OK) == nil {
			return "unix://" + socket, ""
		}
		closed = cmp.Or(closed, socket)
	}
	return "", closed
}
