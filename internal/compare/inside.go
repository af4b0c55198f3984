package compare

import (
	"bufio"
	"bytes"
	"fmt"
	"hash/maphash"
	"regexp"
	"strings"

	"domicile/internal/visible"
)

// Inside is what was found inside a workspace, by kind and name. It is the workspace's own word.
type Inside map[Kind]map[string]string

// tools are the programs that are asked for their version.
var tools = []string{"ansible", "bash", "bundle", "cargo", "clang", "cmake", "curl", "dotnet", "elixir", "gcc", "git", "go version", "gradle", "java", "jq", "kubectl version --client", "make", "mvn", "node", "npm", "php", "pip", "pnpm", "psql", "python", "python3",
	"R", "ruby", "rustc", "sqlite3", "terraform", "yarn"}

// Script prints, for /bin/sh, what Read reads. It leads a session of its own and ends that after
// 40 seconds: a program that waits for an answer must not stay.
var Script = script(40)

// script is Script with another limit, in seconds.
func script(limit int) string {
	// Not every shell takes "kill -9 --".
	return fmt.Sprintf("(sleep %d & trap \"kill $!\" TERM; wait $! && kill -KILL -$$) >/dev/null 2>&1 & watch=$!\n", limit) + look
}

var look = `export LC_ALL=C
part() { printf '\n@@ %s\n' "$1"; }
has() { command -v "$1" >/dev/null 2>&1; }
part system
echo "kernel $(uname -r)"; echo "the machine $(uname -m)"
(. /etc/os-release && printf 'distribution %s\n' "$PRETTY_NAME") 2>/dev/null
part limit
echo "open files $(ulimit -n)"
part variable
tr '\n\000' '\036\n' </proc/self/environ
part package
if has dpkg-query; then dpkg-query -W -f '${db:Status-Abbrev}${Package} ${Version}\n' | sed -n 's/^ii *//p'
elif has rpm; then rpm -qa --qf '%{NAME} %{VERSION}-%{RELEASE}\n'
elif has apk; then apk info -v 2>/dev/null | sed -E 's/-([^-]+-r[0-9]+)$/ \1/'
fi
part pip
has python3 && python3 -m pip list --format=freeze --disable-pip-version-check 2>/dev/null </dev/null | sed 's/==/ /'
part npm
has npm && npm ls -g --depth=0 --parseable --long 2>/dev/null </dev/null | sed -nE 's/^[^:]*:(@?[^@]+)@([^:]*).*/\1 \2/p'
part gem
has gem && gem list --local 2>/dev/null </dev/null | sed -nE 's/^([^ ]+) \((.*)\)$/\1 \2/p'
part tool
for tool in ` + quoted(tools) + `; do
  name=${tool%% *}; [ "$tool" = "$name" ] && tool="$name --version"
  has "$name" && printf '%s %s\n' "$name" "$($tool 2>&1 </dev/null | sed -n '/[0-9]/{p;q;}')"
done
part end
kill $watch
`

func quoted(list []string) string { return "'" + strings.Join(list, "' '") + "'" }

// kindsInside are the parts that the script prints.
var kindsInside = map[string]Kind{"system": System, "limit": Limit, "variable": Variable, "package": Package, "pip": Pip, "npm": Npm, "gem": Gem, "tool": Tool}

// ownVariables differ between any two workspaces, or any two programs.
var ownVariables = regexp.MustCompile(`^(_|PWD|OLDPWD|SHLVL|HOSTNAME|TERM|COLUMNS|LINES|LC_ALL|LS_COLORS|DOMICILE_.*|SSH_.*)$`)

// secretly are the names of variables whose values are not told.
var secretly = regexp.MustCompile(`(?i)(secret|token|passw|credential|api_?key|private|auth)`)

const (
	mostOfAKind = 10_000 // what comes behind it is not compared
	longest     = 300    // of a value, in bytes
)

// notTold stands for a value that may be a secret. Inside, a number stands beside it that is the
// same for the same value in one comparison, and another one in the next.
const notTold = "(not told)"

// Read reads what the script printed. whole is false where its end is missing: then what did not
// arrive whole is not compared. The seed is one for both workspaces, and new for each comparison.
func Read(out []byte, seed maphash.Seed) (in Inside, whole bool) {
	in = Inside{}
	var at string
	lines := bufio.NewScanner(bytes.NewReader(out))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		line := lines.Text()
		if name, is := strings.CutPrefix(line, "@@ "); is {
			if at = name; at == "end" {
				return in, true
			}
			if kind, known := kindsInside[at]; known && in[kind] == nil {
				in[kind] = map[string]string{}
			}
			continue
		}
		if kind, known := kindsInside[at]; known && len(in[kind]) < mostOfAKind {
			in.add(kind, line, seed)
		}
	}
	delete(in, kindsInside[at]) // it was cut off
	return in, false
}

func (in Inside) add(kind Kind, line string, seed maphash.Seed) {
	name, value, found := strings.Cut(line, " ")
	switch kind {
	case Variable:
		name, value, found = strings.Cut(line, "=")
		if !found || ownVariables.MatchString(name) {
			return
		}
		if secretly.MatchString(name) && value != "" {
			value = fmt.Sprintf("%s #%04x", notTold, uint16(maphash.String(seed, value)))
		}
		value = strings.ReplaceAll(value, "\x1e", "\n")
	case System, Limit:
		for _, long := range []string{sameMachine, "open files"} {
			if v, is := strings.CutPrefix(line, long+" "); is {
				name, value = long, v
			}
		}
	}
	if !found || name == "" || len(name) > longest {
		return
	}
	if value = strings.TrimSpace(value); value == "" && kind != Variable {
		return
	}
	if len(value) > longest {
		value = strings.ToValidUTF8(value[:longest], "") + " …"
	}
	in[kind][plain(name)] = plain(value)
}

// plain is a line that a person can read: what a workspace prints may steer a terminal.
func plain(s string) string { return strings.Join(strings.Fields(visible.Text(s)), " ") }
