package definition

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/moby/buildkit/frontend/dockerfile/parser"
	"mvdan.cc/sh/v3/syntax"
)

// A question that a set-up command asks is asked where nobody can answer: it waits until
// somebody wonders, and is a classic reason for a workspace that never gets ready. So
// scripts are looked at for commands known to ask.

// asker is a command that asks unless one of the flags stands there.
type asker struct {
	verbs  []string // the first word that is no flag must be one of these; none: any
	unless []string // a flag that keeps it quiet; single letters may stand in a bundle
	asks   string
	remedy string
}

var askers = map[string][]asker{
	"apt-get":                   {{aptVerbs, aptFlags, "asks before it installs", "-y"}},
	"apt":                       {{aptVerbs, aptFlags, "asks before it installs", "-y"}},
	"aptitude":                  {{aptVerbs, []string{"-y", "--assume-yes"}, "asks before it installs", "-y"}},
	"yum":                       {{rpmVerbs, []string{"-y", "--assumeyes"}, "asks before it installs", "-y"}},
	"dnf":                       {{rpmVerbs, []string{"-y", "--assumeyes"}, "asks before it installs", "-y"}},
	"microdnf":                  {{rpmVerbs, []string{"-y", "--assumeyes"}, "asks before it installs", "-y"}},
	"zypper":                    {{[]string{"install", "in", "update", "up", "remove", "rm"}, []string{"-y", "-n", "--non-interactive", "--no-confirm"}, "asks before it installs", "--non-interactive"}},
	"pacman":                    {{nil, []string{"--noconfirm"}, "asks before it installs", "--noconfirm"}},
	"conda":                     {{[]string{"install", "create", "update", "remove"}, []string{"-y", "--yes"}, "asks before it installs", "-y"}},
	"mamba":                     {{[]string{"install", "create", "update", "remove"}, []string{"-y", "--yes"}, "asks before it installs", "-y"}},
	"pip":                       {{[]string{"uninstall"}, []string{"-y", "--yes"}, "asks before it removes", "-y"}},
	"pip3":                      {{[]string{"uninstall"}, []string{"-y", "--yes"}, "asks before it removes", "-y"}},
	"npm":                       {{[]string{"init", "create"}, []string{"-y", "--yes"}, "asks for what to write into package.json", "-y"}, {[]string{"login", "adduser"}, nil, "asks for a name and a password", "a token from a secret"}},
	"npx":                       {{nil, []string{"-y", "--yes", "--no", "--no-install"}, "asks before it installs a package", "--yes"}},
	"add-apt-repository":        {{nil, []string{"-y", "--yes"}, "asks before it adds the repository", "-y"}},
	"dpkg-reconfigure":          {{nil, []string{"-f", "--frontend"}, "shows a form to fill in", "-f noninteractive"}},
	"adduser":                   {{nil, []string{"--disabled-password", "--disabled-login", "--system", "-D"}, "asks for a password", "--disabled-password --gecos ''"}},
	"passwd":                    {{nil, []string{"-l", "-d", "-u", "-S", "--lock", "--delete", "--unlock", "--status", "--stdin"}, "asks for a password", "chpasswd, with the password from a secret"}},
	"ssh-keygen":                {{nil, []string{"-N", "-l", "-y", "-A", "-R", "-F", "-H"}, "asks for a passphrase", "-N ''"}},
	"openssl":                   {{[]string{"req"}, []string{"-subj", "-batch", "-config"}, "asks for the certificate's subject", "-subj /CN=…"}},
	"git":                       {{[]string{"commit"}, []string{"-m", "-F", "-C", "--message", "--file", "--no-edit", "--reuse-message", "--fixup", "--squash"}, "opens an editor", "-m '…'"}},
	"aws":                       {{[]string{"configure"}, []string{"set", "get", "list", "import"}, "asks for keys", "aws configure set, with values from secrets"}},
	"mysql_secure_installation": {{nil, nil, "asks several questions", "the statements it would run, given to mysql"}},
	"whiptail":                  {{nil, nil, "shows a form", "a value from a variable"}},
	"dialog":                    {{nil, nil, "shows a form", "a value from a variable"}},
	"nano":                      {{nil, nil, "opens an editor", "a file of the repository"}},
	"vi":                        {{nil, []string{"-es", "-s"}, "opens an editor", "a file of the repository"}},
	"vim":                       {{nil, []string{"-es", "-s", "-E", "+qa", "+qall"}, "opens an editor", "a file of the repository"}},
	"less":                      {{nil, []string{"-F", "-E"}, "waits for a key", "cat"}},
	"more":                      {{nil, nil, "waits for a key", "cat"}},
}

var (
	aptVerbs = []string{"install", "upgrade", "dist-upgrade", "full-upgrade", "remove", "purge", "autoremove", "build-dep"}
	aptFlags = []string{"-y", "--yes", "--assume-yes", "-qq", "-s", "--simulate", "--dry-run", "--force-yes"}
	rpmVerbs = []string{"install", "update", "upgrade", "remove", "groupinstall"}
	// formPackages show a form when they are installed, -y or not.
	formPackages = []string{"tzdata", "keyboard-configuration", "console-setup", "postfix", "iptables-persistent", "wireshark-common", "libpam-krb5", "krb5-config"}
	shebang      = regexp.MustCompile(`^#!\s*\S*?/(?:env\s+)?(?:ba|da|a|k|z)?sh\b`)
)

// question is what a script asks, at its line, counted from 1.
type question struct {
	line            int
	message, remedy string
}

// questions looks at a shell script. A text that is no shell script has none.
func questions(script []byte, quietInstall bool) (list []question) {
	if len(script) > MaxSize {
		return nil
	}
	file, err := parseShell(script)
	if err != nil {
		return nil
	}
	quietInstall = quietInstall || bytes.Contains(script, []byte("DEBIAN_FRONTEND=noninteractive"))
	fed := 0 // how many enclosing statements give an input
	var walk func(n syntax.Node)
	walk = func(n syntax.Node) {
		syntax.Walk(n, func(inner syntax.Node) bool {
			switch x := inner.(type) {
			case *syntax.Stmt:
				if x == n || !feeds(x) {
					return true
				}
				fed++
				walk(x)
				fed--
				return false
			case *syntax.BinaryCmd:
				if x.Op != syntax.Pipe && x.Op != syntax.PipeAll {
					return true
				}
				walk(x.X)
				fed++
				walk(x.Y)
				fed--
				return false
			case *syntax.FuncDecl:
				return false // where it is called decides what it reads from
			case *syntax.ForClause:
				if x.Select && fed == 0 {
					list = append(list, question{int(x.Pos().Line()), "select waits for a choice", "a value from a variable"})
				}
			case *syntax.CallExpr:
				if fed == 0 {
					for _, q := range judge(callWords(x), quietInstall) {
						q.line += int(x.Pos().Line()) - 1
						list = append(list, q)
					}
				}
			}
			return true
		})
	}
	walk(file)
	return list
}

// parseShell keeps a panic of the reading library from going further.
func parseShell(script []byte) (f *syntax.File, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("read shell script: %v", p)
		}
	}()
	return syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(bytes.NewReader(script), "")
}

func feeds(s *syntax.Stmt) bool {
	return slices.ContainsFunc(s.Redirs, func(r *syntax.Redirect) bool {
		return r.Op == syntax.RdrIn || r.Op == syntax.Hdoc || r.Op == syntax.DashHdoc || r.Op == syntax.WordHdoc || r.Op == syntax.RdrInOut
	})
}

// callWords gives a command's words as far as they are plain; what only the shell could
// tell becomes "?".
func callWords(c *syntax.CallExpr) (list []string) {
	for _, a := range c.Args {
		var b strings.Builder
		for _, part := range a.Parts {
			switch x := part.(type) {
			case *syntax.Lit:
				b.WriteString(x.Value)
			case *syntax.SglQuoted:
				b.WriteString(x.Value)
			case *syntax.DblQuoted:
				for _, inner := range x.Parts {
					if l, ok := inner.(*syntax.Lit); ok {
						b.WriteString(l.Value)
					} else {
						b.WriteString("?")
					}
				}
			default:
				b.WriteString("?")
			}
		}
		list = append(list, b.String())
	}
	return list
}

// judge tells what one command asks.
func judge(words []string, quietInstall bool) []question {
	words, quiet := bare(words)
	quietInstall = quietInstall || quiet
	if len(words) == 0 {
		return nil
	}
	name, args := path.Base(words[0]), words[1:]
	switch name {
	case "sh", "bash", "dash", "zsh", "ash":
		for i, a := range args {
			if strings.HasPrefix(a, "-") && !strings.HasPrefix(a, "--") && strings.HasSuffix(a, "c") && i+1 < len(args) {
				return questions([]byte(args[i+1]), quietInstall)
			}
		}
		return nil
	case "read":
		if slices.ContainsFunc(args, func(a string) bool { return strings.HasPrefix(a, "-t") || strings.HasPrefix(a, "-u") }) {
			return nil
		}
		return []question{{1, "read waits for a line that nobody types", "a value from a variable, or an input: read … < file"}}
	case "rm", "cp", "mv":
		if slices.Contains(args, "-i") {
			return []question{{1, name + " -i asks before each file", "leave -i out"}}
		}
		return nil
	}
	var list []question
	for _, a := range askers[name] {
		if (len(a.verbs) == 0 || slices.Contains(a.verbs, verb(args))) && !hasFlag(args, a.unless) {
			what := name
			if len(a.verbs) > 0 {
				what += " " + verb(args)
			}
			list = append(list, question{1, what + " " + a.asks, a.remedy})
		}
	}
	if strings.HasPrefix(name, "apt") && slices.Contains(aptVerbs, verb(args)) && !quietInstall {
		for _, p := range args {
			if slices.Contains(formPackages, p) {
				list = append(list, question{1, "the package " + p + " shows a form when it is installed", "DEBIAN_FRONTEND=noninteractive before " + name})
			}
		}
	}
	return list
}

// bare takes away what only starts the command.
func bare(words []string) (rest []string, quiet bool) {
	for len(words) > 0 {
		switch w := path.Base(words[0]); {
		case strings.HasPrefix(words[0], "DEBIAN_FRONTEND=noninteractive"):
			quiet = true
			words = words[1:]
		case w == "sudo" || w == "env" || w == "exec" || w == "nice" || w == "time" || w == "command" || w == "nohup" || w == "eatmydata":
			words = words[1:]
			for len(words) > 0 && strings.HasPrefix(words[0], "-") {
				words = words[1:]
			}
		case strings.Contains(words[0], "=") && !strings.HasPrefix(words[0], "-"):
			words = words[1:]
		default:
			return words, quiet
		}
	}
	return nil, quiet
}

// verb is the first argument that is no flag.
func verb(args []string) string {
	for i := 0; i < len(args); i++ {
		if args[i] == "-o" || args[i] == "-t" || args[i] == "-c" { // these take a word
			i++
			continue
		}
		if !strings.HasPrefix(args[i], "-") {
			return args[i]
		}
	}
	return ""
}

func hasFlag(args, flags []string) bool {
	for _, a := range args {
		if a == "?" {
			return true // the flag may be in the variable
		}
		for _, f := range flags {
			if a == f || strings.HasPrefix(a, f+"=") {
				return true
			}
			// -y in -qy, -N in -fN; but -qq means two of them
			if len(f) == 2 && f[0] == '-' && f[1] != '-' && len(a) > 2 && a[0] == '-' && a[1] != '-' && strings.Contains(a[1:], f[1:]) {
				return true
			}
		}
	}
	return false
}

func (q question) problem(file string, excerpt string) Problem {
	return Problem{Severity: Warning, Code: "asks-a-question", File: file, Line: q.line, Column: 1, Excerpt: excerpt,
		Message: q.message + ", and nobody is there to answer", Suggestion: q.remedy}
}

// questionsInScript looks at a script of its own file.
func questionsInScript(file string, script []byte) (list []Problem) {
	if bytes.HasPrefix(script, []byte("#!")) && !shebang.Match(script) {
		return nil
	}
	t := &Text{File: file, Bytes: script}
	for _, q := range questions(script, false) {
		line := t.Line(q.line)
		p := q.problem(file, excerpt(line))
		p.Column = 1 + len(line) - len(strings.TrimLeft(line, " \t"))
		list = append(list, p)
	}
	return list
}

// questionsInRun looks at a RUN instruction of a Dockerfile.
func questionsInRun(source *Text, n *parser.Node) (list []Problem) {
	if n.Next == nil || n.Attributes["json"] {
		var words []string
		for a := n.Next; a != nil; a = a.Next {
			words = append(words, a.Value)
		}
		for _, q := range judge(words, false) {
			q.line = n.StartLine
			list = append(list, q.problem(source.File, excerpt(source.Line(q.line))))
		}
		return list
	}
	// The instruction's own lines keep the numbers right; comments inside it are the
	// shell's comments too.
	script := []byte(strings.Repeat("\n", n.StartLine-1))
	first := true
	for i := n.StartLine; i <= n.EndLine; i++ {
		line := source.Line(i)
		if first {
			line = strings.TrimLeft(line, " \t")
			line = strings.TrimSpace(line[min(len(line), len("RUN")):])
			for _, flag := range n.Flags {
				line = strings.TrimSpace(strings.TrimPrefix(line, flag))
			}
			first = false
		} else if trimmed := strings.TrimSpace(line); strings.HasPrefix(trimmed, "#") || trimmed == "" {
			line = "\\" // dropped by the Dockerfile, and must not end the command
		}
		script = append(append(script, line...), '\n')
	}
	for _, h := range n.Heredocs {
		script = append([]byte(strings.Repeat("\n", n.StartLine)), h.Content...)
	}
	quiet := bytes.Contains(source.Bytes, []byte("DEBIAN_FRONTEND")) && quietEarlier(source, n.StartLine)
	for _, q := range questions(script, quiet) {
		list = append(list, q.problem(source.File, excerpt(source.Line(q.line))))
	}
	return list
}

var quietInstruction = regexp.MustCompile(`(?i)^\s*(?:ARG|ENV)\s+.*DEBIAN_FRONTEND[= ]"?noninteractive`)

func quietEarlier(source *Text, before int) bool {
	for i := 1; i < before; i++ {
		if quietInstruction.MatchString(source.Line(i)) {
			return true
		}
	}
	return false
}

// questionsInCommands looks at the lifecycle commands of the definition, and at the
// repository's scripts that they run.
func (r *Report) questionsInCommands(c *checker, files fs.FS, root *Value) {
	seen := map[string]bool{}
	look := func(v *Value, at string) {
		for _, q := range valueQuestions(v) {
			c.add(Warning, "asks-a-question", v.Offset, at, "%s, and nobody is there to answer", q.message).Suggestion = q.remedy
		}
		for _, script := range scriptsRun(v) {
			if !fs.ValidPath(script) || seen[script] {
				continue
			}
			seen[script] = true
			if info, err := fs.Stat(files, script); err != nil || !info.Mode().IsRegular() || info.Size() > MaxSize {
				continue
			}
			if b, err := fs.ReadFile(files, script); err == nil && shebangOrShell(script, b) {
				r.Problems = append(r.Problems, questionsInScript(script, b)...)
			}
		}
	}
	for _, stage := range append([]string{"initializeCommand"}, Lifecycle...) {
		v := root.Get(stage)
		if v == nil {
			continue
		}
		if v.Kind != Object {
			look(v, "/"+stage)
			continue
		}
		for _, m := range v.Members {
			look(m.Value, pointer("/"+stage, m.Name))
		}
	}
}

func shebangOrShell(name string, b []byte) bool {
	return shebang.Match(b) || !bytes.HasPrefix(b, []byte("#!")) && strings.HasSuffix(name, "sh")
}

func valueQuestions(v *Value) []question {
	if v.Kind == String {
		return questions([]byte(v.Str), false)
	}
	return judge(words(v), false)
}

// scriptsRun lists what looks like scripts of the repository in a command.
func scriptsRun(v *Value) (list []string) {
	all := words(v)
	if v.Kind == String {
		all = strings.FieldsFunc(v.Str, func(r rune) bool { return strings.ContainsRune(" \t\n;&|()\"'", r) })
	}
	for _, w := range all {
		w = strings.TrimPrefix(strings.TrimPrefix(w, "${containerWorkspaceFolder}/"), "./")
		if strings.Contains(w, "/") || strings.HasSuffix(w, ".sh") {
			list = append(list, path.Clean(w))
		}
	}
	return list
}
