package definition

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Port is a port as a definition names it: a number, or "host:port" where the host is
// another service of the workspace.
type Port struct {
	Host   string // empty: the workspace itself
	Number int
	text   bool // written as a string
}

// ParsePort reads "8080", "localhost:8080" or "db:5432".
func ParsePort(s string) (Port, error) {
	host, number, found := strings.Cut(s, ":")
	if !found {
		host, number = "", s
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 0 || n > 65535 || (found && !hostName.MatchString(host)) {
		return Port{}, fmt.Errorf("%q is no port: a number from 0 to 65535 or host:port is wanted", s)
	}
	return Port{Host: host, Number: n, text: true}, nil
}

var hostName = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9._-]*[A-Za-z0-9])?$`)

// Same tells whether two ports are one, however each is written.
func (p Port) Same(q Port) bool { return p.Host == q.Host && p.Number == q.Number }

// String is the port as portsAttributes names it.
func (p Port) String() string {
	if p.Host == "" {
		return strconv.Itoa(p.Number)
	}
	return p.Host + ":" + strconv.Itoa(p.Number)
}

// MarshalJSON writes the port as the definition did.
func (p Port) MarshalJSON() ([]byte, error) {
	if p.text {
		return json.Marshal(p.String())
	}
	return json.Marshal(p.Number)
}

// UnmarshalJSON reads a number or a string.
func (p *Port) UnmarshalJSON(b []byte) (err error) {
	var s string
	if json.Unmarshal(b, &s) == nil {
		*p, err = ParsePort(s)
		return err
	}
	*p = Port{}
	return json.Unmarshal(b, &p.Number)
}

// PortAttributes says what a port is and what to do when something listens there.
type PortAttributes struct {
	Label            string `json:"label,omitempty"`
	Protocol         string `json:"protocol,omitempty"` // http or https; empty: not known
	OnAutoForward    string `json:"onAutoForward,omitempty"`
	RequireLocalPort bool   `json:"requireLocalPort,omitempty"`
	ElevateIfNeeded  bool   `json:"elevateIfNeeded,omitempty"`
}

// PortRules say what ports are.
type PortRules struct {
	Named  map[string]PortAttributes `json:"named,omitempty"`  // portsAttributes
	Others *PortAttributes           `json:"others,omitempty"` // otherPortsAttributes
}

// Of tells what is said of a port: by its own entry, that of a range it lies in, that whose pattern
// the command line of who listens there matches, or that for all others. Where nobody listens the
// command is empty, and patterns match nothing.
func (r PortRules) Of(p Port, command string) PortAttributes {
	if a, ok := r.Named[p.String()]; ok {
		return a
	}
	if p.Host == "" {
		for _, name := range sortedNames(r.Named) {
			if first, last, isRange := portRange(name); isRange && first <= p.Number && p.Number <= last {
				return r.Named[name]
			}
		}
	}
	if command != "" {
		for _, name := range sortedNames(r.Named) {
			if matches(name, command) {
				return r.Named[name]
			}
		}
	}
	if r.Others != nil {
		return *r.Others
	}
	return PortAttributes{}
}

// portRange reads a name such as "40000-45000".
func portRange(name string) (first, last int, ok bool) {
	from, to, isRange := strings.Cut(name, "-")
	first, errFirst := strconv.Atoi(from)
	last, errLast := strconv.Atoi(to)
	return first, last, isRange && errFirst == nil && errLast == nil
}

// matches tells whether a name is a pattern, and matches a command line.
func matches(name, command string) bool {
	if _, err := ParsePort(name); err == nil {
		return false
	}
	if _, _, isRange := portRange(name); isRange {
		return false
	}
	pattern, err := regexp.Compile(name)
	return err == nil && pattern.MatchString(command)
}

func (c *checker) forwardPorts(v *Value, path string) {
	if !c.expect(v, path, Array) {
		return
	}
	for i, item := range v.Items {
		at := pointer(path, i)
		switch item.Kind {
		case Number:
			c.integer(item, at, 0, 65535)
		case String:
			if _, err := ParsePort(item.Str); err != nil && !strings.Contains(item.Str, "${") {
				c.wrong(item, at, "bad-port", "%v", err)
			}
		default:
			c.wrong(item, at, "wrong-type", "%s must be a port number or \"host:port\", not %s", display(at), item.Kind)
		}
	}
}

func (c *checker) appPort(v *Value, path string) {
	items := []*Value{v}
	if v.Kind == Array {
		items = v.Items
	}
	for i, item := range items {
		at := path
		if v.Kind == Array {
			at = pointer(path, i)
		}
		switch item.Kind {
		case Number:
			c.integer(item, at, 0, 65535)
		case String:
		default:
			c.wrong(item, at, "wrong-type", "%s must be a port number or a string like \"8081:81\", not %s", display(at), item.Kind)
		}
	}
}

func (c *checker) portsAttributes(v *Value, path string) {
	if !c.expect(v, path, Object) {
		return
	}
	for _, m := range v.Members {
		at := pointer(path, m.Name)
		if _, err := regexp.Compile(m.Name); err != nil {
			p := c.add(Warning, "bad-pattern", m.NameOffset, at, "%q is neither a port, a range, host:port nor a regular expression; it matches nothing", m.Name)
			p.Suggestion = "a port such as \"8080\""
		}
		if first, last, isRange := portRange(m.Name); isRange && (first > last || last > 65535) {
			p := c.add(Warning, "empty-range", m.NameOffset, at, "the range %q has no port; it matches nothing", m.Name)
			p.Suggestion = fmt.Sprintf("%q", fmt.Sprintf("%d-%d", min(first, last), min(max(first, last), 65535)))
		}
		c.portAttributes(m.Value, at)
	}
}

func (c *checker) portAttributes(v *Value, path string) {
	c.members(v, path, map[string]func(*checker, *Value, string){
		"label":            (*checker).text,
		"protocol":         oneOf("http", "https"),
		"onAutoForward":    oneOf("notify", "openBrowser", "openBrowserOnce", "openPreview", "silent", "ignore"),
		"requireLocalPort": (*checker).boolean,
		"elevateIfNeeded":  (*checker).boolean,
	})
}
