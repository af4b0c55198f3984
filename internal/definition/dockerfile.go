package definition

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/moby/buildkit/frontend/dockerfile/instructions"
	"github.com/moby/buildkit/frontend/dockerfile/parser"
	"github.com/moby/buildkit/frontend/dockerfile/shell"
	"github.com/moby/patternmatcher"
	"github.com/moby/patternmatcher/ignorefile"
)

// metadataLabel is the standard's label of an image's metadata.
const metadataLabel = "devcontainer.metadata"

// dockerfile is what a Dockerfile's text says of itself.
type dockerfile struct {
	file   string
	images []Image           // of FROM, COPY --from and RUN --mount, no stage names, in order
	base   string            // the image the built stage starts from; empty: unknown or scratch
	user   string            // the last USER of the built stage
	stages map[string]string // name → the image it starts from
	caches bool              // a RUN keeps a cache between builds, or may
	label  string            // devcontainer.metadata of the built stage; empty: the base image's
	// contexts are names that stand for folders and images beside (Build.Contexts).
	contexts map[string]string
}

// variableList gives a Dockerfile's arguments to its own lexer.
type variableList map[string]string

func (v variableList) Get(name string) (string, bool) { s, ok := v[name]; return s, ok }
func (v variableList) Keys() []string                 { return sortedNames(v) }

// readDockerfile finds the images a Dockerfile is built from, with the values that args
// give to its ARG lines before the first FROM.
func readDockerfile(file string, text []byte, b *Build) (d *dockerfile, list []Problem) {
	args, target := b.Args, b.Target
	d = &dockerfile{file: file, stages: map[string]string{}, contexts: b.Contexts}
	source := &Text{File: file, Bytes: text}
	tell := func(s Severity, code string, line int, format string, a ...any) *Problem {
		list = append(list, Problem{Severity: s, Code: code, Message: fmt.Sprintf(format, a...), File: file, Line: max(line, 1), Column: 1, Excerpt: excerpt(source.Line(max(line, 1)))})
		return &list[len(list)-1]
	}
	if len(text) > MaxSize {
		tell(Error, "bad-dockerfile", 1, "the file has %d bytes; at most %d are read", len(text), MaxSize)
		return d, list
	}
	result, err := parse(text)
	if err != nil {
		line := 1
		var at *parser.LocationError
		if errors.As(err, &at) && len(at.Locations) > 0 && len(at.Locations[0]) > 0 {
			line = at.Locations[0][0].Start.Line
		}
		tell(Error, "bad-dockerfile", line, "this is no valid Dockerfile: %v", err)
		return d, list
	}
	lex, values, begun, found := shell.NewLex(result.EscapeToken), variableList{}, false, target == ""
	current, labels, users := "", map[string]string{}, map[string]string{}
	stage, past, inside := "", false, variableList{}
	for _, n := range result.AST.Children {
		if err := understood(n); err != nil {
			tell(Error, "bad-dockerfile", n.StartLine, "%v", err)
			continue
		}
		past = past || found && target != "" && strings.EqualFold(n.Value, "from")
		if past {
			begun = true
			continue // what comes behind the target is not built
		}
		switch strings.ToLower(n.Value) {
		case "arg":
			for a := n.Next; a != nil; a = a.Next {
				name, value, has := strings.Cut(a.Value, "=")
				of := values
				if begun {
					of = inside
					if global, known := values[name]; known && !has {
						of[name] = global
					}
				}
				if given, ok := args[name]; ok {
					of[name] = given
				} else if has {
					of[name], _, _ = lex.ProcessWord(value, of)
				}
			}
		case "env":
			for name, value := range pairs(n) {
				inside[name], _, _ = lex.ProcessWord(value, inside)
			}
		case "from":
			begun, inside = true, variableList{}
			if n.Next == nil {
				tell(Error, "bad-dockerfile", n.StartLine, "FROM needs an image")
				continue
			}
			name, _, err := lex.ProcessWord(n.Next.Value, values)
			if err != nil || name == "" {
				tell(Error, "bad-dockerfile", n.StartLine, "FROM %s names no image: a value for its ARG is missing", n.Next.Value)
				continue
			}
			users[stage], labels[stage] = d.user, d.label
			// What a stage is made from gives it its user and its label.
			d.user, d.label = users[strings.ToLower(name)], labels[strings.ToLower(name)]
			if earlier, isStage := d.stages[strings.ToLower(name)]; isStage {
				current = earlier
			} else {
				current = d.image(name, n.StartLine)
			}
			stage = ""
			if as := n.Next.Next; as != nil && strings.EqualFold(as.Value, "as") && as.Next != nil {
				stage = strings.ToLower(as.Next.Value)
				d.stages[stage] = current
				found = found || stage == strings.ToLower(target)
			}
			d.base = current
		case "label":
			for word, value := range pairs(n) {
				if name, _, err := lex.ProcessWord(word, inside); err == nil && name == metadataLabel {
					d.label, _, _ = lex.ProcessWord(value, inside)
				}
			}
		case "copy", "add":
			d.from(n.Flags, "--from=", n.StartLine)
		case "user":
			if n.Next != nil {
				d.user, _, _ = lex.ProcessWord(n.Next.Value, inside)
			}
		case "run":
			for _, flag := range n.Flags {
				if mount, is := strings.CutPrefix(flag, "--mount="); is {
					d.caches = d.caches || mayCache(mount)
					d.from(strings.Split(mount, ","), "from=", n.StartLine)
				}
			}
			list = append(list, questionsInRun(source, n)...)
		}
	}
	if d.base == "scratch" {
		d.base = ""
	}
	switch {
	case !begun:
		tell(Error, "bad-dockerfile", 1, "the Dockerfile has no FROM line")
	case !found:
		if _, err := strconv.Atoi(target); err != nil {
			tell(Error, "unknown-target", 1, "the Dockerfile has no stage %q; it has %s", target, strings.Join(sortedNames(d.stages), ", ")).Suggestion = Closest(target, sortedNames(d.stages))
		}
	}
	return d, list
}

// pairs are the names and values of an ENV or LABEL: three words each, with what stands
// between them.
func pairs(n *parser.Node) iter.Seq2[string, string] {
	return func(yield func(string, string) bool) {
		for name := n.Next; name != nil && name.Next != nil && name.Next.Next != nil; name = name.Next.Next.Next {
			if !yield(name.Value, name.Next.Value) {
				return
			}
		}
	}
}

// understood looks at an instruction as the builder will, so that what it would refuse after
// an image was pulled is told before. FROM is looked at where its arguments are known.
func understood(n *parser.Node) (err error) {
	defer func() {
		if p := recover(); p != nil { // a hostile text must not take the service with it
			err = fmt.Errorf("it cannot be read (%v)", p)
		}
	}()
	if strings.EqualFold(n.Value, "from") {
		return nil
	}
	_, err = instructions.ParseInstruction(n)
	return err
}

// mayCache tells of a mount of RUN whether it keeps a cache, or cannot be known not to.
func mayCache(mount string) bool {
	if strings.Contains(mount, "$") {
		return true
	}
	for option := range strings.SplitSeq(strings.ToLower(mount), ",") {
		if key, value, _ := strings.Cut(strings.TrimSpace(option), "="); key == "type" {
			return value != "bind" && value != "tmpfs" && value != "secret"
		}
	}
	return false // bind, where no type is given
}

// KeepsCaches tells of a build whether a RUN of its Dockerfile keeps a cache between builds.
// Such a cache, and the image that is made with it, belong to one account.
func (r *Report) KeepsCaches(b *Build) bool { return r.caches[b.Dockerfile] }

// parse keeps a panic of the reading library, should a hostile text find one, from
// taking the service with it.
func parse(text []byte) (result *parser.Result, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("it cannot be read (%v)", p)
		}
	}()
	return parser.Parse(bytes.NewReader(text))
}

// image notes an image that is built from, and gives it. A name for a folder beside gives
// none.
func (d *dockerfile) image(reference string, line int) string {
	if of, named := d.contexts[reference]; named {
		image, is := ImageContext(of)
		if !is {
			return ""
		}
		reference = image
	}
	if reference != "scratch" && !slices.ContainsFunc(d.images, func(i Image) bool { return i.Reference == reference }) {
		d.images = append(d.images, Image{Reference: reference, File: d.file, Line: line})
	}
	return reference
}

func (d *dockerfile) from(words []string, prefix string, line int) {
	for _, w := range words {
		name, is := strings.CutPrefix(w, prefix)
		if !is || name == "" || strings.Contains(name, "$") {
			continue
		}
		_, isStage := d.stages[strings.ToLower(name)]
		if _, err := strconv.Atoi(name); err != nil && !isStage {
			d.image(name, line)
		}
	}
}

// readBuild reads the Dockerfile of a build section and its context; pointers name where
// the two stand.
func (r *Report) readBuild(c *checker, files fs.FS, b *Build, place int, at string) *dockerfile {
	text := []byte(b.Inline)
	if b.Inline == "" {
		var err error
		if text, err = fs.ReadFile(files, b.Dockerfile); err != nil {
			c.add(Error, "no-dockerfile", place, at, "cannot read the Dockerfile %s: %v", b.Dockerfile, reason(err))
			return nil
		}
	}
	d, list := readDockerfile(b.Dockerfile, text, b)
	r.Problems = append(r.Problems, list...)
	r.read(b.Dockerfile, text)
	for _, i := range d.images {
		if b.Inline != "" {
			i.File, i.Line = b.InlineFile, i.Line+b.InlineLine
		}
		r.addImage(i)
	}
	if d.caches {
		if r.caches == nil {
			r.caches = map[string]bool{}
		}
		r.caches[b.Dockerfile] = true
	}
	if info, err := fs.Stat(files, b.Context); err != nil || !info.IsDir() {
		c.add(Error, "no-context", place, at, "there is no folder %s, the build's context", b.Context)
		return d
	}
	patterns, file, err := ignoreFile(files, b)
	if err != nil {
		r.Problems = append(r.Problems, Problem{Severity: Error, Code: "bad-ignore-file", File: file, Line: 1, Column: 1, Message: err.Error()})
		return d
	}
	features, images := LockPaths(r.File)
	digest, err := ContextDigest(files, b.Context, []string{r.File, features, images}, patterns)
	if err != nil {
		c.add(Error, "bad-context", place, at, "cannot read the build's context %s: %v", b.Context, err)
		return d
	}
	r.readDigest(contextName(b), digest)
	for _, name := range sortedNames(b.Contexts) {
		if _, is := ImageContext(b.Contexts[name]); is {
			continue
		}
		digest, err := ContextDigest(files, b.Contexts[name], []string{features, images}, nil)
		if err != nil {
			c.add(Error, "no-context", place, at, "cannot read the folder %s, the build's context %s: %v", b.Contexts[name], name, reason(err))
			return d
		}
		r.readDigest(namedContext(b, name), digest)
	}
	return d
}

// ignoreFile reads the patterns of a build's ignore file: the one that carries the
// Dockerfile's name, or that of the context.
func ignoreFile(files fs.FS, b *Build) (patterns []string, file string, err error) {
	text, file := []byte(nil), b.Dockerfile+".dockerignore"
	if text, err = fs.ReadFile(files, file); err != nil {
		file = path.Join(b.Context, ".dockerignore")
		if text, err = fs.ReadFile(files, file); err != nil {
			return nil, file, nil
		}
	}
	if patterns, err = ignorefile.ReadAll(bytes.NewReader(text)); err != nil {
		return nil, file, fmt.Errorf("the ignore file cannot be read: %w", err)
	}
	_, err = matcher(patterns)
	return patterns, file, err
}

// matcher tells of a path whether patterns leave it out, and whether a folder that they
// leave out may hold something that they do not.
func matcher(patterns []string) (func(name string) (match, mayHold bool), error) {
	if len(patterns) == 0 {
		return func(string) (bool, bool) { return false, false }, nil
	}
	m, err := patternmatcher.New(patterns)
	if err != nil {
		return nil, fmt.Errorf("the ignore file has a wrong pattern: %w", err)
	}
	if _, err := m.MatchesOrParentMatches("x"); err != nil {
		return nil, fmt.Errorf("the ignore file has a wrong pattern: %w", err)
	}
	return func(name string) (bool, bool) {
		match, err := m.MatchesOrParentMatches(name)
		return match && err == nil, m.Exclusions()
	}, nil
}
