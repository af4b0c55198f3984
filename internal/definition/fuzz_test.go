package definition

import (
	"context"
	"encoding/json"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/tailscale/hujson"
)

func FuzzReference(f *testing.F) {
	for _, s := range []string{"r.test/a/b:1", "./x", "https://h.test/devcontainer-feature-a.tgz", "r.test/a@sha256:" + strings.Repeat("a", 64), "../../x"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		r, err := ParseReference(s)
		if err != nil {
			return
		}
		again, err := ParseReference(r.Written)
		require.NoError(t, err)
		require.Equal(t, r, again)
		require.NotEmpty(t, r.ID)
	})
}

// FuzzRead reads whole definitions with all that belongs to them.
func FuzzRead(f *testing.F) {
	f.Add(`{"image": "a", "features": {"./f": {}}, "mounts": ["type=volume,target=/x"]}`, "FROM a\nRUN read x\n", `{"id": "f", "version": "1"}`)
	f.Add(`{"build": {"dockerfile": "Dockerfile"}}`, "FROM a AS b\nCOPY --from=b . .\n", `{"dependsOn": {"./f": {}}}`)
	f.Add(`{"image": 1e999999, "forwardPorts": [99999999999999999999]}`, "", "{}")
	f.Fuzz(func(t *testing.T, text, docker, feature string) {
		r := Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(text)}, "Dockerfile": {Data: []byte(docker)},
			".devcontainer/f/devcontainer-feature.json": {Data: []byte(feature)}, ".devcontainer/f/install.sh": {Data: []byte(docker)}}, Options{Folder: "/srv/x"})
		for _, p := range r.Problems {
			require.NotEmpty(t, p.Message)
			require.NotEmpty(t, p.Code)
		}
		_, err := json.Marshal(r)
		require.NoError(t, err)
	})
}

// The fast way and the slow way must read the same.
func FuzzDecode(f *testing.F) {
	for _, s := range []string{`{"a": [1, "\\\"b", null,], /* c */ "d": {"e": true},}`, "// x\n[1.5e3]", `"\u00e9"`, `{"a":1,"a":2}`, `[,]`, `{"a":,}`, `[1,,]`, "\"\\ud800\"", `[1]/`, `{"a": {}, "b": []}`, "", " ", "{}x"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if _, deep := tooDeep(b); deep || len(b) > 1<<20 {
			return
		}
		fast, ok := decode(b)
		// The slow way wants the end of a line behind a last comment, which people leave out.
		h, err := hujson.Parse(append(b, '\n'))
		if !ok {
			return // the slow way decides
		}
		require.NoError(t, err, "the fast way takes what the slow way refuses")
		slow, err := convert(&h)
		require.NoError(t, err)
		require.Equal(t, slow, fast)
	})
}

func TestHostileTexts(t *testing.T) {
	for name, text := range map[string]string{
		"nested lists":      `{"image": "a", "x": ` + strings.Repeat("[", 300_000) + strings.Repeat("]", 300_000) + "}",
		"nested objects":    strings.Repeat(`{"a":`, 300_000) + "1" + strings.Repeat("}", 300_000),
		"a huge number":     `{"image": "a", "forwardPorts": [` + strings.Repeat("9", 1_000_000) + "]}",
		"a huge exponent":   `{"image": "a", "hostRequirements": {"cpus": 1e999999999}}`,
		"a huge string":     `{"image": "` + strings.Repeat("a", 1_000_000) + `"}`,
		"many names":        `{` + strings.Repeat(`"image": "a",`, 80_000) + `}`,
		"an open comment":   `{"image": "a" /* ` + strings.Repeat("*", 1_000_000),
		"variables in rows": `{"image": "` + strings.Repeat("${localEnv:A:", 70_000) + `"}`,
		"too large":         strings.Repeat(" ", MaxSize) + "{}",
	} {
		t.Run(name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			begun := time.Now()
			Read(context.Background(), fstest.MapFS{".devcontainer.json": {Data: []byte(text)}}, Options{Folder: "/x"})
			took := time.Since(begun)
			runtime.ReadMemStats(&after)
			t.Logf("%d kB took %v and %d kB", len(text)>>10, took, (after.TotalAlloc-before.TotalAlloc)>>10)
			assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(200*max(len(text), 10_000)), "bytes of memory, all in all")
			assert.Less(t, after.HeapInuse, before.HeapInuse+uint64(100*max(len(text), 1_000_000)), "bytes of memory at a time")
		})
	}
}

// typical is a definition as people write them, with five features.
func typical() (fstest.MapFS, shelf) {
	s := shelf{}
	var features []string
	for i, id := range []string{"anchor", "buoy", "chart", "deck", "engine"} {
		depends := ""
		if i > 0 {
			depends = `, "installsAfter": ["` + quay + `anchor"]`
		}
		s[quay+id] = fmt.Sprintf(`{"id": %q, "version": "1.%d.0", "name": "The %s", "options": {"version": {"type": "string", "default": "latest", "proposals": ["1", "2"]}, "quiet": {"type": "boolean", "default": false}},
			"containerEnv": {"PATH": "/opt/%s/bin:${PATH}"}, "capAdd": ["SYS_PTRACE"], "mounts": [{"type": "volume", "source": "%s", "target": "/var/%s"}], "postCreateCommand": "%s --version"%s}`, id, i, id, id, id, id, id, depends)
		features = append(features, fmt.Sprintf(`"%s%s:1": {"version": "2"}`, quay, id))
	}
	return fstest.MapFS{".devcontainer/devcontainer.json": {Data: []byte(`// typical
{
  "name": "Timetable", "image": "base:12", "remoteUser": "crew",
  "features": {` + strings.Join(features, ",\n    ") + `},
  "forwardPorts": [8080, "db:5432"], "portsAttributes": {"8080": {"label": "Sailings"}},
  "containerEnv": {"LINE": "skerry"}, "remoteEnv": {"PATH": "/x:${containerEnv:PATH}"},
  "onCreateCommand": "make", "postCreateCommand": {"a": "make test", "b": ["make", "lint"]},
  "hostRequirements": {"cpus": 2, "memory": "4gb"}
}`)}}, s
}

// BenchmarkTypical measures reading, merging and ordering against only parsing the JSON.
func BenchmarkTypical(b *testing.B) {
	files, s := typical()
	r := Read(context.Background(), files, Options{Folder: "/x", Artifacts: s})
	if r.HasErrors() || len(r.Features) != 5 {
		b.Fatal(r.Problems)
	}
	for b.Loop() {
		Read(context.Background(), files, Options{Folder: "/x", Artifacts: s})
	}
	whole := float64(b.Elapsed().Nanoseconds()) / float64(b.N)
	b.ReportMetric(whole/parsing(b, append(s.texts(), string(files[".devcontainer/devcontainer.json"].Data))), "×parsing")
}

// parsing measures the raw operation, only parsing the texts, in nanoseconds.
func parsing(b *testing.B, texts []string) float64 {
	const times = 50
	begun := time.Now()
	for range times {
		for _, text := range texts {
			if _, err := ParseText("", []byte(text)); err != nil {
				b.Fatal(err)
			}
		}
	}
	return float64(time.Since(begun).Nanoseconds()) / times
}

func (s shelf) texts() (list []string) {
	for _, text := range s {
		list = append(list, text)
	}
	return list
}

// BenchmarkTenThousandLines reads a definition of 10,000 lines.
func BenchmarkTenThousandLines(b *testing.B) {
	var text strings.Builder
	text.WriteString("{\n\"image\": \"a\",\n\"containerEnv\": {\n")
	for i := range 9_996 {
		fmt.Fprintf(&text, "  \"NAME_%d\": \"value %d\", // %d\n", i, i, i)
	}
	text.WriteString("}\n}")
	files := fstest.MapFS{".devcontainer.json": {Data: []byte(text.String())}}
	for b.Loop() {
		if r := Read(context.Background(), files, Options{Folder: "/x"}); r.HasErrors() {
			b.Fatal(r.Problems)
		}
	}
	whole := float64(b.Elapsed().Nanoseconds()) / float64(b.N)
	b.ReportMetric(whole/parsing(b, []string{text.String()}), "×parsing")
}
