package draft

import (
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// portMark is a way in which a text names a port that something will listen on.
type portMark struct {
	pattern *regexp.Regexp // its first group is the number
	sure    Sureness
}

var (
	inDockerfile = []portMark{{regexp.MustCompile(`(?mi)^\s*EXPOSE\s+(\d{2,5})`), Certain}}
	inCompose    = []portMark{{regexp.MustCompile(`(?m)^\s*-\s*["']?(?:\d[\d.]*:)?(?:\d+:)?(\d{2,5})(?:/tcp)?["']?\s*$`), Likely}}
	inSettings   = []portMark{{regexp.MustCompile(`(?mi)^\s*(?:export\s+)?[A-Z_]*PORT\s*[=:]\s*["']?(\d{2,5})\b`), Likely}}
	inCode       = []portMark{
		{regexp.MustCompile(`(?i)\blisten(?:AndServe)?(?:TLS)?\(\s*["'` + "`" + `]?(?:[\w.]*:)?(\d{2,5})\b`), Likely},
		{regexp.MustCompile(`(?i)server\w*\(\s*\(\s*["'][\w.]*["']\s*,\s*(\d{2,5})\s*\)`), Likely},
		{regexp.MustCompile(`(?i)\b(?:default_)?port\s*[:=]{1,2}\s*(?:int\()?["']?(\d{4,5})\b`), Possible},
		{regexp.MustCompile(`(?i)--port[ =](\d{2,5})\b`), Possible},
		{regexp.MustCompile(`["'](?:0\.0\.0\.0|127\.0\.0\.1|localhost)?:(\d{4,5})["']`), Possible},
	}
	codeEndings     = []string{".go", ".py", ".js", ".ts", ".tsx", ".mjs", ".rb", ".rs", ".java", ".kt", ".php", ".sh", ".toml", ".json"}
	settingsEndings = []string{".env", ".yaml", ".yml", ".ini", ".conf", ".properties"}
)

func (l *look) lookForPorts(name string) {
	base := path.Base(name)
	var marks []portMark
	switch {
	case strings.HasPrefix(base, "Dockerfile"):
		marks = inDockerfile
	case slices.Contains(composeNames, base):
		marks = inCompose
	case strings.HasSuffix(base, "lock.json") || strings.HasSuffix(base, "_test.go") || strings.HasPrefix(base, "test_") || strings.Contains(base, ".test."):
		return // ports of tests are gone when they end
	case slices.Contains(codeEndings, path.Ext(base)):
		marks = inCode
	case slices.Contains(settingsEndings, path.Ext(base)) || strings.HasPrefix(base, ".env"):
		marks = inSettings
	default:
		return
	}
	b := l.read(name)
	for _, m := range marks {
		for _, at := range m.pattern.FindAllSubmatchIndex(b, 20) {
			n, err := strconv.Atoi(string(b[at[2]:at[3]]))
			if err != nil || n < 80 || n > 65535 {
				continue
			}
			l.port(port{n, Seen{What: "port " + strconv.Itoa(n), File: name, Line: lineAt(b, at[2]), Sure: m.sure}})
		}
	}
}

// port notes a port; the surest sign of each counts.
func (l *look) port(p port) {
	for i, old := range l.ports {
		if old.number != p.number {
			continue
		}
		if rank(p.Sure) < rank(old.Sure) {
			l.ports[i] = p
			l.seen = slices.DeleteFunc(l.seen, func(s Seen) bool { return s == old.Seen })
			l.seen = append(l.seen, p.Seen)
		}
		return
	}
	l.ports = append(l.ports, p)
	l.seen = append(l.seen, p.Seen)
}
