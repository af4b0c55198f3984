package compose

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/compose-spec/compose-go/v2/types"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// words say what becomes of an attribute.
var words = map[fate]string{carried: "carried out", without: "no effect here; told as a note", refused: "refused at its line"}

// parts name the parts of a Compose file as docs/compose.md does.
var parts = []struct {
	title string
	of    []reflect.Type
}{
	{"services", []reflect.Type{reflect.TypeFor[types.ServiceConfig](), reflect.TypeFor[types.ContainerSpec](), reflect.TypeFor[types.WorkloadSpec]()}},
	{"services: build", []reflect.Type{reflect.TypeFor[types.BuildConfig]()}},
	{"services: volumes", []reflect.Type{reflect.TypeFor[types.ServiceVolumeConfig](), reflect.TypeFor[types.ServiceVolumeBind](), reflect.TypeFor[types.ServiceVolumeVolume](), reflect.TypeFor[types.ServiceVolumeTmpfs]()}},
	{"services: networks", []reflect.Type{reflect.TypeFor[types.ServiceNetworkConfig]()}},
	{"services: deploy", []reflect.Type{reflect.TypeFor[types.DeployConfig](), reflect.TypeFor[types.Resources](), reflect.TypeFor[types.Resource]()}},
	{"services: healthcheck", []reflect.Type{reflect.TypeFor[types.HealthCheckConfig]()}},
	{"services: post_start", []reflect.Type{reflect.TypeFor[types.ServiceHook]()}},
	{"networks", []reflect.Type{reflect.TypeFor[types.NetworkConfig](), reflect.TypeFor[types.IPAMConfig](), reflect.TypeFor[types.IPAMPool]()}},
	{"volumes", []reflect.Type{reflect.TypeFor[types.VolumeConfig]()}},
}

// table says for each attribute that the loader knows what becomes of it.
func table() string {
	var b strings.Builder
	b.WriteString("| part | attribute | what becomes of it |\n| --- | --- | --- |\n")
	for _, p := range parts {
		rows := map[string]string{}
		for _, t := range p.of {
			for i := range t.NumField() {
				f := t.Field(i)
				name, _, _ := strings.Cut(f.Tag.Get("yaml"), ",")
				if f.Anonymous || !f.IsExported() || name == "" || name == "-" || strings.HasPrefix(name, "#") {
					continue
				}
				as := fates[t.Name()+"."+f.Name]
				if as == 0 {
					as = refused
				}
				rows[name] = words[as]
				if as == without && (slices.Contains(silent, f.Name) || !strings.HasPrefix(p.title, "services") || p.title == "services: volumes" || p.title == "services: networks" || p.title == "services: post_start") {
					rows[name] = "no effect here"
				}
			}
		}
		for _, name := range slices.Sorted(maps.Keys(rows)) {
			fmt.Fprintf(&b, "| %s | `%s` | %s |\n", p.title, name, rows[name])
		}
	}
	return b.String()
}

// The table in docs/compose.md is what the program does. What it says of an attribute is
// shown from inside by TestWhatComposeFilesSayIsSoInside.
func TestTheTableOfAttributes(t *testing.T) {
	file := filepath.Join("..", "..", "docs", "compose.md")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	const begin, end = "<!-- attributes: made by TestTheTableOfAttributes -->\n", "<!-- end of attributes -->"
	before, rest, found := strings.Cut(string(text), begin)
	require.True(t, found)
	had, after, found := strings.Cut(rest, end)
	require.True(t, found)
	if os.Getenv("DOMICILE_WRITE_DOCS") != "" {
		require.NoError(t, os.WriteFile(file, []byte(before+begin+table()+end+after), 0o644))
		return
	}
	assert.Equal(t, table(), had, "write it anew: DOMICILE_WRITE_DOCS=1 go test -run TestTheTableOfAttributes ./internal/compose")
}

// Attributes that have no effect are told where they stand, whatever the service.
func TestWhatHasNoEffectIsTold(t *testing.T) {
	r := Read(t.Context(), fstestFiles(map[string]string{"c.yaml": "services:\n  work:\n    image: x\n    cpuset: \"0\"\n    tty: true\n    labels: { a: b }\n  db:\n    image: y\n    domainname: z\n    build:\n      context: .\n      no_cache: true\n    healthcheck: { test: [CMD, a], start_interval: 1s }\n"}), []string{"c.yaml"}, nil)
	var told []string
	for _, p := range r.Problems {
		told = append(told, fmt.Sprintf("%s %d %s", p.Severity, p.Line, p.Message))
	}
	assert.ElementsMatch(t, []string{"note 4 service work: cpuset has no effect here", "note 9 service db: domainname has no effect here", "note 12 service db: build.no_cache has no effect here", "note 13 service db: healthcheck.start_interval has no effect here"}, told)
}

func fstestFiles(texts map[string]string) fstest.MapFS {
	files := fstest.MapFS{}
	for name, text := range texts {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return files
}

// A network is joined of a service that is there, or the line is told.
func TestNetworksOfNobody(t *testing.T) {
	for _, name := range []string{"nobody", "../../x", "db.own", "work"} {
		_, problems := load(t, map[string]string{".devcontainer/compose.yaml": "services:\n  work:\n    image: x\n    network_mode: \"service:" + name + "\"\n"})
		require.Len(t, problems, 1, name)
		assert.Contains(t, problems[0].Message, "work")
		assert.Equal(t, 4, problems[0].Line, name)
	}
}
