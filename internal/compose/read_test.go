package compose

import (
	"encoding/json"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/definition"
)

func load(t testing.TB, texts map[string]string, names ...string) (*Project, []definition.Problem) {
	files := fstest.MapFS{}
	for name, text := range texts {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	if len(names) == 0 {
		names = []string{".devcontainer/compose.yaml"}
	}
	return Load(t.Context(), files, names, func(name string) (string, bool) { return "blue", name == "COLOUR" })
}

func TestFilesAreMerged(t *testing.T) {
	p, problems := load(t, map[string]string{
		"compose.yaml": "services:\n  board:\n    image: base:${TAG:-12}\n    env_file: [board.env]\n    environment: [\"HUE=${COLOUR}\"]\n    volumes: [\".:/work\", \"/srv/tides:/tides\", \"data:/data\"]\n" +
			"    depends_on: [db]\n    ports: [\"8080:80\"]\n  db:\n    extends: { file: parts/db.yaml, service: store }\nvolumes: { data: {} }\n",
		"more.yaml":     "services:\n  board:\n    build: { context: img, args: { A: b } }\n",
		"parts/db.yaml": "services:\n  store:\n    image: postgres:15\n    env_file: db.env\n",
		"parts/db.env":  "PGDATA=/data\n", "board.env": "LINE=skerry\nHUE=grey\n", ".env": "TAG=13\n", "img/Dockerfile": "FROM base\n",
	}, "compose.yaml", "more.yaml")
	require.Empty(t, problems)
	board := p.Services["board"]
	assert.Equal(t, "base:13", board.Image, "from .env")
	assert.Equal(t, "img", board.Build.Context)
	assert.Equal(t, "blue", *board.Environment["HUE"], "what the file says wins over its environment file")
	assert.Equal(t, "skerry", *board.Environment["LINE"])
	assert.Equal(t, "./", board.Volumes[0].Source, "of the repository")
	assert.Equal(t, "/srv/tides", board.Volumes[1].Source, "of the host")
	assert.Equal(t, "postgres:15", p.Services["db"].Image)
	assert.Equal(t, "/data", *p.Services["db"].Environment["PGDATA"], "relative to the file that says so")
	for _, name := range []string{"compose.yaml", "more.yaml", "parts/db.yaml", "parts/db.env", "board.env", ".env"} {
		assert.Contains(t, p.Files, name, "an input")
	}
	facts := p.facts()
	assert.Equal(t, []string{"board", "db"}, []string{facts.Services[0].Name, facts.Services[1].Name})
	assert.Equal(t, "img/Dockerfile", facts.Services[0].Build.Dockerfile)
	assert.Equal(t, []string{"the host's folder /srv/tides"}, facts.Services[0].Asks)
}

func TestWhatLeadsOutOrIsWrongIsToldAtItsLine(t *testing.T) {
	cases := map[string]struct {
		text, code string
		line       int
	}{
		"no YAML":                  {"services:\n  a: [\n", "bad-compose", 2},
		"unknown attribute":        {"services:\n  a:\n    image: x\n    imge: y\n", "bad-compose", 4},
		"extends out":              {"services:\n  a:\n    extends: { file: ../../x.yaml, service: b }\n", "outside-repository", 3},
		"extends absolute":         {"services:\n  a:\n    extends:\n      file: /etc/x.yaml\n      service: b\n", "outside-repository", 4},
		"extends a variable":       {"services:\n  a:\n    extends: { file: \"${HOME}/x.yaml\", service: b }\n", "bad-compose", 3},
		"includes from elsewhere":  {"include:\n  - https://skerry.test/x.yaml\nservices:\n  a: { image: x }\n", "outside-repository", 2},
		"includes itself":          {"include: [compose.yaml]\nservices:\n  a: { image: x }\n", "bad-compose", 1},
		"environment file out":     {"services:\n  a:\n    image: x\n    env_file: /etc/passwd\n", "outside-repository", 4},
		"environment file missing": {"services:\n  a:\n    image: x\n    env_file: a.env\n", "no-environment-file", 4},
		"neither image nor build":  {"services:\n  a:\n    command: x\n", "bad-compose", 2},
		"missing variable":         {"services:\n  a:\n    image: ${B:?say which}\n", "bad-compose", 3},
		"circle":                   {"services:\n  a:\n    image: x\n    depends_on: [b]\n  b:\n    image: x\n    depends_on: [a]\n", "bad-compose", 0},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			_, problems := load(t, map[string]string{".devcontainer/compose.yaml": c.text})
			require.NotEmpty(t, problems)
			assert.Equal(t, c.code, problems[0].Code, problems[0].Message)
			assert.Equal(t, ".devcontainer/compose.yaml", problems[0].File)
			if c.line > 0 {
				assert.InDelta(t, c.line, problems[0].Line, 1, problems[0].Message)
			}
			assert.NotContains(t, problems[0].Message, "/repository")
			assert.NotContains(t, problems[0].Message, "domicile-compose-")
		})
	}
}

func TestWhatAServiceAsksOfTheHost(t *testing.T) {
	p, problems := load(t, map[string]string{".devcontainer/compose.yaml": `
services:
  a:
    image: x
    privileged: true
    cap_add: [NET_ADMIN]
    security_opt: ["seccomp:unconfined"]
    devices: ["/dev/ttyUSB0"]
    network_mode: host
    pid: "container:other"
    volumes: ["/var/run/docker.sock:/s", "../../..:/up"]
`})
	require.Empty(t, problems)
	var attributes []string
	for _, a := range Asks(p.Services["a"]) {
		attributes = append(attributes, a.Attribute)
	}
	assert.Equal(t, []string{"cap_add", "devices", "network_mode", "pid", "privileged", "security_opt", "volumes", "volumes"}, attributes)
}

// Aliases that multiply: a small file that would expand to a billion nodes.
func TestAliasesThatMultiply(t *testing.T) {
	var b strings.Builder
	b.WriteString("x0: &x0 [a,a,a,a,a,a,a,a,a,a]\n")
	for i := 1; i < 12; i++ {
		list := strings.Repeat("*x"+string(rune('a'+i-2))+",", 9)
		if i == 1 {
			list = strings.Repeat("*x0,", 9)
		}
		b.WriteString("x" + string(rune('a'+i-1)) + ": &x" + string(rune('a'+i-1)) + " [" + strings.TrimSuffix(list, ",") + "]\n")
	}
	b.WriteString("services: { a: { image: x } }\n")
	begun := time.Now()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, problems := load(t, map[string]string{".devcontainer/compose.yaml": b.String()})
	runtime.ReadMemStats(&after)
	require.NotEmpty(t, problems)
	assert.Equal(t, definition.Error, problems[0].Severity)
	t.Logf("%d bytes were read in %v with %d kB", b.Len(), time.Since(begun), (after.TotalAlloc-before.TotalAlloc)>>10)
}

func FuzzLoad(f *testing.F) {
	f.Add("services:\n  a:\n    image: x:${TAG:-1}\n    depends_on: { b: { condition: service_healthy } }\n  b: { build: . }\n")
	f.Add("a: &a [1]\nservices: { a: { image: x, x-b: *a } }")
	f.Add("include: [other.yaml]\n")
	f.Add("services: { a: { extends: { file: other.yaml, service: b } } }")
	f.Fuzz(func(t *testing.T, text string) {
		p, problems := load(t, map[string]string{".devcontainer/compose.yaml": text, ".devcontainer/other.yaml": "services: { b: { image: y } }"})
		if p == nil {
			require.NotEmpty(t, problems, "a refusal says why")
			return
		}
		p.facts()
	})
}

// However a file of the host is named: nothing of it comes back.
func FuzzStaging(f *testing.F) {
	const secret = "the-harbour-masters-secret"
	prize := filepath.Join(f.TempDir(), "prize.yaml")
	require.NoError(f, os.WriteFile(prize, []byte("SECRET="+secret+"\n# services: { s: { image: "+secret+" } }\n"), 0o644))
	plain := filepath.Join(f.TempDir(), "plain.yaml")
	require.NoError(f, os.WriteFile(plain, []byte("services: { s: { image: "+secret+" } }\n"), 0o644))
	for _, text := range []string{
		"services: { a: { extends: { file: PLAIN, service: s } } }", "x: &x { file: PLAIN, service: s }\nservices: { a: { extends: { <<: *x } } }", "include: [PLAIN]\nservices: { a: { image: x } }", "include: [{ path: other.yaml, env_file: PRIZE }]\nservices: { a: { image: \"${SECRET}\" } }",
		"services: { a: { image: x, env_file: PRIZE } }", "---\n---\nservices: { a: { extends: { file: PLAIN, service: s } } }", "services: { a: { <<: [{ extends: { file: PLAIN, service: s } }] } }", "services: { a: !override { extends: !reset { file: PLAIN, service: s } } }", "services: { a: { image: x, label_file: PRIZE } }",
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		text = strings.NewReplacer("PLAIN", plain, "PRIZE", prize).Replace(text)
		files := fstest.MapFS{".devcontainer/compose.yaml": {Data: []byte(text)}, ".devcontainer/other.yaml": {Data: []byte("services: { b: { image: \"${SECRET:-none}\" } }")}}
		r := Read(t.Context(), files, []string{".devcontainer/compose.yaml"}, nil)
		b, err := json.Marshal(r)
		require.NoError(t, err)
		if strings.Contains(string(b), secret) && !strings.Contains(text, secret) {
			t.Fatalf("%q brings %s", text, b)
		}
	})
}

// Load reports all errors of the files together, each with its line.
func TestAllThatIsWrongIsToldAtOnce(t *testing.T) {
	files := fstest.MapFS{"compose.yaml": {Data: []byte("services:\n  app:\n    image: a\n    bogus: 1\n    more: 2\n  db:\n    image: b\n    third: 3\n")}}
	p, problems := Load(t.Context(), files, []string{"compose.yaml"}, nil)
	assert.Nil(t, p)
	lines := map[int]bool{}
	for _, x := range problems {
		assert.Contains(t, x.Message, "is nothing that Compose knows")
		lines[x.Line] = true
	}
	assert.Equal(t, map[int]bool{4: true, 5: true, 8: true}, lines, "%v", problems)

	files["compose.yaml"].Data = []byte("services:\n  app:\n    image: a\n    runtime: kata\n    oom_score_adj: 5\n  db:\n    image: b\n    credential_spec: {file: x}\nvolumes:\n  shared: {external: true}\n")
	r := Read(t.Context(), files, []string{"compose.yaml"}, nil)
	var said []string
	for _, x := range r.Refused {
		said = append(said, x.Message)
	}
	all := strings.Join(said, "\n")
	for _, want := range []string{"compose.yaml:4: service app: runtime", "compose.yaml:5: service app: oom_score_adj", "compose.yaml:8: service db: credential_spec", "the volume shared is not the workspace's own"} {
		assert.Contains(t, all, want)
	}
	assert.Empty(t, r.Services)
}

func TestHostsOfABuild(t *testing.T) {
	files := fstest.MapFS{"compose.yaml": {Data: []byte("services:\n  app:\n    build:\n      context: .\n      extra_hosts: [\"quay:10.0.0.1\", \"buoy=10.0.0.2\"]\n")}}
	r := Read(t.Context(), files, []string{"compose.yaml"}, nil)
	require.Empty(t, r.Refused)
	require.Len(t, r.Services, 1)
	assert.Equal(t, []string{"--add-host=buoy:10.0.0.2", "--add-host=quay:10.0.0.1"}, r.Services[0].Build.Options)
}
