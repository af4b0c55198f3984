package definition

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Domicile is what a definition says under customizations.domicile: what the standard
// leaves to the tool.
type Domicile struct {
	Checks   []Check `json:"checks,omitempty"`
	Tasks    []Task  `json:"tasks,omitempty"`
	IdleStop string  `json:"idleStop,omitempty"` // a duration such as "2h", or "never"; empty: the service's
	// StopGrace is how long programs have to end when the workspace stops, such as "30s"; empty: 10 seconds.
	StopGrace string `json:"stopGrace,omitempty"`
	Size      string `json:"size,omitempty"`   // the name of a size; empty: the service's
	Engine    bool   `json:"engine,omitempty"` // it needs a container engine for helpers of its own
	Place     string `json:"place,omitempty"`  // OwnMachine, or empty: any
	Screen    string `json:"screen,omitempty"` // the size of a screen in pixels, such as "1280x800"; empty: none
}

// OwnMachine is the place of a workspace that needs a machine of its own.
const OwnMachine = "machine"

// Check is something that must hold in a ready workspace.
type Check struct {
	Name    string          `json:"name"`
	Command json.RawMessage `json:"command"` // as a lifecycle command: a string or a list
	// What must hold; without any, that the exit status is 0.
	ExitStatus *int   `json:"exitStatus,omitempty"`
	Equals     string `json:"equals,omitempty"`
	Contains   string `json:"contains,omitempty"`
	Matches    string `json:"matches,omitempty"` // a regular expression of RE2
	AtLeast    string `json:"atLeast,omitempty"` // a version
	AtMost     string `json:"atMost,omitempty"`  // a version
	From       string `json:"from,omitempty"`    // the step that should have brought it, in words
}

// Task is a named command of the team.
type Task struct {
	Name        string          `json:"name"`
	Command     json.RawMessage `json:"command"`
	Description string          `json:"description,omitempty"`
	After       []string        `json:"after,omitempty"` // tasks to run before
}

var (
	plainName  = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._-]{0,63}$`)
	aVersionIn = regexp.MustCompile(`\d+(?:\.\d+)*`)
)

// domicile checks customizations.domicile.
func (c *checker) domicile(v *Value, path string) {
	c.members(v, path, map[string]func(*checker, *Value, string){
		"checks": (*checker).checks, "tasks": (*checker).tasks, "idleStop": (*checker).idleStop, "stopGrace": (*checker).stopGrace, "size": (*checker).text,
		"engine": func(c *checker, v *Value, p string) { c.expect(v, p, Bool) }, "place": (*checker).ownMachine, "screen": (*checker).screen,
	})
}

func (c *checker) checks(v *Value, path string) {
	if !c.expect(v, path, Object) {
		return
	}
	for _, m := range v.Members {
		at := pointer(path, m.Name)
		c.plainName(m, at, "check")
		if m.Value.Kind == String || m.Value.Kind == Array {
			c.simpleCommand(m.Value, at)
			continue
		}
		c.members(m.Value, at, map[string]func(*checker, *Value, string){
			"command": (*checker).simpleCommand, "exitStatus": func(c *checker, v *Value, p string) { c.integer(v, p, 0, 255) },
			"equals": (*checker).text, "contains": (*checker).text, "matches": (*checker).pattern,
			"atLeast": (*checker).version, "atMost": (*checker).version, "from": (*checker).text,
		})
		if m.Value.Kind == Object && m.Value.Get("command") == nil {
			c.wrong(m.Value, at, "missing-property", "the check %s needs command", m.Name)
		}
	}
}

func (c *checker) tasks(v *Value, path string) {
	if !c.expect(v, path, Object) {
		return
	}
	for _, m := range v.Members {
		at := pointer(path, m.Name)
		c.plainName(m, at, "task")
		if m.Value.Kind == String || m.Value.Kind == Array {
			c.simpleCommand(m.Value, at)
			continue
		}
		c.members(m.Value, at, map[string]func(*checker, *Value, string){
			"command": (*checker).simpleCommand, "description": (*checker).text, "after": (*checker).textOrTexts,
		})
		if m.Value.Kind != Object {
			continue
		}
		if m.Value.Get("command") == nil {
			c.wrong(m.Value, at, "missing-property", "the task %s needs command", m.Name)
		}
		for _, name := range afterOf(m.Value) {
			if v.Get(name) == nil {
				p := c.wrong(m.Value.Get("after"), pointer(at, "after"), "unknown-task", "the task %s runs after %q, which is no task", m.Name, name)
				p.Suggestion = Closest(name, memberNames(v))
			}
		}
	}
	if way := taskCircle(v); way != nil {
		c.wrong(v, path, "task-cycle", "these tasks wait for each other: %s", strings.Join(way, " → "))
	}
}

func (c *checker) ownMachine(v *Value, path string) {
	if c.expect(v, path, String) && v.Str != OwnMachine {
		c.wrong(v, path, "not-allowed", "%s is %q, a machine of its own, or left out; not %q", display(path), OwnMachine, v.Str).Suggestion = OwnMachine
	}
}

// The sizes that a screen may have, in pixels. Both sides are whole multiples of screenStep.
const (
	leastScreen, mostScreen = 480, 1920
	screenStep              = 8
)

var aScreen = regexp.MustCompile(`^([1-9]\d{2,3})x([1-9]\d{2,3})$`)

// IsScreen tells whether a text is a size that a screen may have: WIDTHxHEIGHT in pixels, each from
// 480 to 1920, in steps of 8.
func IsScreen(text string) bool {
	sides := aScreen.FindStringSubmatch(text)
	for _, side := range sides[min(1, len(sides)):] {
		if n, err := strconv.Atoi(side); err != nil || n < leastScreen || n > mostScreen || n%screenStep != 0 {
			return false
		}
	}
	return sides != nil
}

func (c *checker) screen(v *Value, path string) {
	if c.expect(v, path, String) && !IsScreen(v.Str) {
		c.wrong(v, path, "bad-screen", "%s must be a size in pixels such as \"1280x800\", each side from %d to %d in steps of %d, not %q", display(path), leastScreen, mostScreen, screenStep, v.Str)
	}
}

func (c *checker) plainName(m Member, at, what string) {
	if !plainName.MatchString(m.Name) {
		c.bad[at] = true
		c.add(Error, "bad-name", m.NameOffset, at, "%q is no name for a %s: up to 64 letters, digits, spaces and . _ - are wanted", m.Name, what)
	}
}

func afterOf(task *Value) []string {
	after := task.Get("after")
	if after == nil {
		return nil
	}
	if after.Kind == String {
		return []string{after.Str}
	}
	return words(after)
}

func memberNames(v *Value) (list []string) {
	for _, m := range v.Members {
		list = append(list, m.Name)
	}
	return list
}

// taskCircle finds tasks that wait for each other.
func taskCircle(v *Value) []string {
	state := map[string]int{} // 1: on the way, 2: done
	var way []string
	var visit func(name string) bool
	visit = func(name string) bool {
		way = append(way, name)
		if state[name] == 1 {
			return true
		}
		if state[name] == 0 {
			state[name] = 1
			if task := v.Get(name); task != nil && task.Kind == Object {
				for _, before := range afterOf(task) {
					if visit(before) {
						return true
					}
				}
			}
			state[name] = 2
		}
		way = way[:len(way)-1]
		return false
	}
	for _, m := range v.Members {
		if visit(m.Name) {
			return way
		}
	}
	return nil
}

func (c *checker) simpleCommand(v *Value, path string) {
	if v.Kind == Object {
		c.wrong(v, path, "wrong-type", "%s must be a string or a list of strings, not an object", display(path))
		return
	}
	c.command(v, path)
}

func (c *checker) pattern(v *Value, path string) {
	if c.expect(v, path, String) {
		if _, err := regexp.Compile(v.Str); err != nil {
			c.wrong(v, path, "bad-pattern", "%s is no regular expression: %v", display(path), err)
		}
	}
}

func (c *checker) version(v *Value, path string) {
	if c.expect(v, path, String) && !isVersion(v.Str) && aVersionIn.FindString(v.Str) != v.Str {
		c.wrong(v, path, "bad-version", "%s must be a version such as 3.11, not %q", display(path), v.Str)
	}
}

// MaxStopGrace is how long programs may have to end when a workspace stops.
const MaxStopGrace = 10 * time.Minute

func (c *checker) stopGrace(v *Value, path string) {
	if !c.expect(v, path, String) {
		return
	}
	if d, err := time.ParseDuration(v.Str); err != nil || d < 0 || d > MaxStopGrace {
		c.wrong(v, path, "bad-duration", "%s must be a duration of at most 10 minutes such as \"30s\", not %q", display(path), v.Str)
	}
}

func (c *checker) idleStop(v *Value, path string) {
	if !c.expect(v, path, String) || v.Str == "never" {
		return
	}
	d, err := time.ParseDuration(v.Str)
	if err != nil || d < time.Minute {
		c.wrong(v, path, "bad-duration", "%s must be \"never\" or a duration of at least a minute such as \"90m\" or \"2h\", not %q", display(path), v.Str)
	}
}

// readDomicile types what was checked. Checks and tasks keep the order of the text.
func readDomicile(v *Value) (*Domicile, error) {
	if v == nil || v.Kind != Object {
		return nil, nil
	}
	d := &Domicile{}
	for _, m := range v.Members {
		switch m.Name {
		case "idleStop":
			d.IdleStop = m.Value.Str
		case "stopGrace":
			d.StopGrace = m.Value.Str
		case "size":
			d.Size = m.Value.Str
		case "place":
			d.Place = m.Value.Str
		case "screen":
			d.Screen = m.Value.Str
		case "engine":
			d.Engine = m.Value.Kind == Bool && m.Value.Raw == "true"
		case "checks":
			for _, e := range m.Value.Members {
				check := Check{Name: e.Name, Command: compact(e.Value)}
				if e.Value.Kind == Object {
					if err := json.Unmarshal(compact(e.Value), &check); err != nil {
						return nil, fmt.Errorf("read check %s: %w", e.Name, err)
					}
					check.Name = e.Name
				}
				d.Checks = append(d.Checks, check)
			}
		case "tasks":
			for _, e := range m.Value.Members {
				task := Task{Name: e.Name, Command: compact(e.Value)}
				if e.Value.Kind == Object {
					task.Command = compact(e.Value.Get("command"))
					task.After = afterOf(e.Value)
					if text := e.Value.Get("description"); text != nil {
						task.Description = text.Str
					}
				}
				d.Tasks = append(d.Tasks, task)
			}
		}
	}
	return d, nil
}

// Holds judges a check by what its command printed to its standard output, and its exit
// status. Of a failed one it tells what was expected and what was found.
func (c Check) Holds(output string, status int) (ok bool, expected, found string) {
	text := strings.TrimRight(output, "\r\n")
	wantStatus := 0
	if c.ExitStatus != nil {
		wantStatus = *c.ExitStatus
	}
	if status != wantStatus {
		return false, fmt.Sprintf("exit status %d", wantStatus), fmt.Sprintf("exit status %d", status)
	}
	if c.Equals != "" && text != c.Equals {
		return false, fmt.Sprintf("the output %q", c.Equals), fmt.Sprintf("%q", text)
	}
	if c.Contains != "" && !strings.Contains(text, c.Contains) {
		return false, fmt.Sprintf("an output that contains %q", c.Contains), fmt.Sprintf("%q", text)
	}
	if c.Matches != "" {
		re, err := regexp.Compile(c.Matches)
		if err != nil || !re.MatchString(text) {
			return false, fmt.Sprintf("an output that matches %s", c.Matches), fmt.Sprintf("%q", text)
		}
	}
	if c.AtLeast == "" && c.AtMost == "" {
		return true, c.wanted(wantStatus), firstOf(text)
	}
	version := aVersionIn.FindString(text)
	bounds := strings.Trim(strings.Join([]string{atWord("at least ", c.AtLeast), atWord("at most ", c.AtMost)}, ", "), ", ")
	if version == "" {
		return false, "a version " + bounds, fmt.Sprintf("no version in %q", text)
	}
	good := (c.AtLeast == "" || CompareVersions(version, c.AtLeast) >= 0) && (c.AtMost == "" || atMost(version, c.AtMost))
	return good, "a version " + bounds, version
}

// wanted says what a check without a version asks for.
func (c Check) wanted(status int) string {
	switch {
	case c.Equals != "":
		return fmt.Sprintf("the output %q", c.Equals)
	case c.Contains != "":
		return fmt.Sprintf("an output that contains %q", c.Contains)
	case c.Matches != "":
		return "an output that matches " + c.Matches
	}
	return fmt.Sprintf("exit status %d", status)
}

// atMost counts 3.11.2 as at most 3.11: the bound says nothing of the numbers behind it.
func atMost(version, bound string) bool {
	return CompareVersions(version, bound) <= 0 || strings.HasPrefix(version, bound+".")
}

func atWord(word, version string) string {
	if version == "" {
		return ""
	}
	return word + version
}

func firstOf(text string) string {
	first, _, _ := strings.Cut(text, "\n")
	return first
}
