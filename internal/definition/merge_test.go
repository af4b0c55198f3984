package definition

import (
	"encoding/json"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func merged(t *testing.T, image, definition string) *Effective {
	t.Helper()
	files := fstest.MapFS{".devcontainer.json": {Data: []byte(definition)}}
	r := Read(t.Context(), files, Options{Folder: "/srv/x", ImageMetadata: []byte(image)})
	require.False(t, r.HasErrors(), "%v", r.Problems)
	return r.Effective
}

func TestMergingImageAndDefinition(t *testing.T) {
	e := merged(t, `[
	  {"remoteUser": "root", "containerEnv": {"A": "1", "B": "1"}, "remoteEnv": {"X": "1"}, "capAdd": ["A"], "init": true, "waitFor": "onCreateCommand",
	   "forwardPorts": [1, "db:2"], "portsAttributes": {"1": {"label": "image", "protocol": "http"}}, "mounts": ["source=a,target=/m,type=volume", "source=b,target=/n,type=volume"],
	   "hostRequirements": {"cpus": 8, "memory": "512mb", "gpu": "optional"}, "customizations": {"skerry": {"list": [1, 2], "deep": {"a": 1}}}, "postStartCommand": "image", "entrypoint": "/one"},
	  {"remoteUser": "crew", "entrypoint": "/two", "postStartCommand": "image again", "image": "other:1", "name": "from a label"}
	]`, `{"image": "base:1", "containerEnv": {"B": "2"}, "remoteEnv": {"X": null}, "capAdd": ["A", "B"], "init": false, "forwardPorts": ["db:2", 3],
	  "portsAttributes": {"1": {"label": "mine"}}, "mounts": [{"type": "volume", "source": "c", "target": "/m"}], "hostRequirements": {"cpus": 2, "memory": "1gb", "gpu": true},
	  "customizations": {"skerry": {"list": [2, 3], "deep": {"b": 2}}}, "postStartCommand": ["mine"]}`)
	assert.Equal(t, "crew", e.RemoteUser, "the last wins")
	assert.Equal(t, "onCreateCommand", e.WaitFor)
	assert.Equal(t, map[string]string{"A": "1", "B": "2"}, e.ContainerEnv)
	assert.Equal(t, map[string]*string{"X": nil}, e.RemoteEnv)
	assert.Equal(t, []string{"A", "B"}, e.CapAdd)
	assert.True(t, e.Init, "true if any is")
	assert.Equal(t, []Mount{{Type: "volume", Source: "b", Target: "/n"}, {Type: "volume", Source: "c", Target: "/m"}}, e.Mounts)
	assert.Equal(t, map[string]PortAttributes{"1": {Label: "mine"}}, e.PortsAttributes, "the whole entry")
	assert.Equal(t, &HostRequirements{CPUs: 8, Memory: "1gb", GPU: true}, e.HostRequirements)
	assert.Equal(t, []string{"/one", "/two"}, e.Entrypoint)
	assert.Equal(t, "base:1", e.Image, "a label cannot choose the image")
	assert.Empty(t, e.Name)
	var commands []string
	for _, c := range e.PostStartCommand {
		commands = append(commands, c.From+" "+string(c.Command))
	}
	assert.Equal(t, []string{`image "image"`, `image "image again"`, `definition ["mine"]`}, commands)
	ports, err := json.Marshal(e.ForwardPorts)
	require.NoError(t, err)
	assert.Equal(t, `[1,"db:2",3]`, string(ports), "as written, once each")
	skerry, err := json.Marshal(e.Customizations["skerry"])
	require.NoError(t, err)
	assert.JSONEq(t, `{"list": [1, 2, 3], "deep": {"a": 1, "b": 2}}`, string(skerry))
}

func TestASingleSnippetCountsToo(t *testing.T) {
	assert.Equal(t, "crew", merged(t, `{"remoteUser": "crew"}`, `{"image": "a"}`).RemoteUser)
}

func TestBadMetadataIsTold(t *testing.T) {
	for _, label := range []string{"{", "[1]", `{"containerEnv": 7}`} {
		r := Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(`{"image": "a"}`)}}, Options{ImageMetadata: []byte(label)})
		require.Len(t, r.Problems, 1, label)
		assert.Equal(t, "bad-metadata", r.Problems[0].Code)
	}
}

func TestAmounts(t *testing.T) {
	for text, want := range map[string]int64{"8gb": 8 << 30, "1tb": 1 << 40, "512mb": 512 << 20, "3kb": 3 << 10, "17": 17} {
		got, err := ParseAmount(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, bad := range []string{"", "gb", "8 gb", "-1gb", "1.5gb", "99999999999999999999", "9999999999tb"} {
		_, err := ParseAmount(bad)
		assert.Error(t, err, bad)
	}
}

func TestPorts(t *testing.T) {
	for text, want := range map[string]Port{"8080": {Number: 8080, text: true}, "db:5432": {Host: "db", Number: 5432, text: true}} {
		got, err := ParsePort(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, bad := range []string{"", ":", "db:", ":80", "db:x", "-1", "65536", "a b:1", "-db:1", "db:1:2"} {
		_, err := ParsePort(bad)
		assert.Error(t, err, bad)
	}
}

func TestAttributesOfPorts(t *testing.T) {
	e := read(`{"image": "a", "portsAttributes": {"8080": {"label": "one"}, "40000-45000": {"label": "range"}, "db:5432": {"label": "database"}, "node.*": {"label": "by command"}}, "otherPortsAttributes": {"label": "other"}}`).Effective
	for port, want := range map[string]string{"8080": "one", "40000": "range", "45000": "range", "45001": "other", "db:5432": "database", "5432": "other"} {
		p, err := ParsePort(port)
		require.NoError(t, err)
		assert.Equal(t, want, e.Attributes(p).Label, port)
	}
	for command, want := range map[string]string{"node server.js": "by command", "python3 -m http.server 8080": "other", "": "other"} {
		assert.Equal(t, want, e.PortRules().Of(Port{Number: 3000}, command).Label, command)
	}
	assert.Equal(t, "one", e.PortRules().Of(Port{Number: 8080}, "node server.js").Label, "a number counts before a pattern")
}
