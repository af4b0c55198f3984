package plan

import (
	"go/build"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/judge"
)

func makePlan(t *testing.T, text, commit string) *Plan {
	t.Helper()
	r := definition.Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(text)}}, definition.Options{Folder: "/workspaces/deck"})
	require.False(t, r.HasErrors(), "%v", r.Problems)
	p, err := Make(r, Input{Name: "deck", Commit: commit})
	require.NoError(t, err)
	return p
}

func names(steps []Step) string {
	var list []string
	for _, s := range steps {
		list = append(list, s.Name)
	}
	return strings.Join(list, " ")
}

func TestSteps(t *testing.T) {
	const commands = `"onCreateCommand": "a", "updateContentCommand": "b", "postCreateCommand": "c", "postStartCommand": "d"`
	const made = "image volume container agent source "
	cases := map[string]string{
		`{"image": "i"}`:                   made + "ready",
		`{"image": "i", ` + commands + `}`: made + "onCreateCommand updateContentCommand ready postCreateCommand postStartCommand",
		`{"image": "i", "waitFor": "postStartCommand", ` + commands + `}`:         made + "onCreateCommand updateContentCommand postCreateCommand postStartCommand ready",
		`{"image": "i", "waitFor": "initializeCommand", ` + commands + `}`:        made + "ready onCreateCommand updateContentCommand postCreateCommand postStartCommand",
		`{"image": "i", "waitFor": "postCreateCommand", "postStartCommand": "d"}`: made + "ready postStartCommand",
	}
	for text, want := range cases {
		assert.Equal(t, want, names(makePlan(t, text, "c0").Steps), text)
	}
	assert.Equal(t, "agent ready postStartCommand", names(makePlan(t, `{"image": "i", `+commands+`}`, "c0").Start()))
	assert.Equal(t, "agent postStartCommand ready", names(makePlan(t, `{"image": "i", "waitFor": "postStartCommand", `+commands+`}`, "c0").Start()))
	assert.Equal(t, "agent ready", names(makePlan(t, `{"image": "i"}`, "c0").Start()))
}

// A digest changes exactly when something that goes into the step changes.
func TestDigests(t *testing.T) {
	const base = `{"image": "i", "containerEnv": {"A": "1"}, "onCreateCommand": "a", "updateContentCommand": "b", "postStartCommand": "d"}`
	digests := func(text, commit string) map[string]string {
		m := map[string]string{}
		for _, s := range makePlan(t, text, commit).Steps {
			m[s.Name] = s.Digest
		}
		return m
	}
	before := digests(base, "c0")
	cases := map[string]struct{ text, commit, changed string }{
		"nothing":       {base, "c0", ""},
		"a label":       {strings.Replace(base, `{"image"`, `{"name": "x", "portsAttributes": {"1": {"label": "y"}}, "image"`, 1), "c0", ""},
		"the image":     {strings.Replace(base, `"i"`, `"j"`, 1), "c0", "image container agent onCreateCommand updateContentCommand postStartCommand"},
		"containerEnv":  {strings.Replace(base, `"1"`, `"2"`, 1), "c0", "container agent onCreateCommand updateContentCommand postStartCommand"},
		"the commit":    {base, "c1", "source updateContentCommand"},
		"the last step": {strings.Replace(base, `"d"`, `"e"`, 1), "c0", "postStartCommand"},
	}
	for name, c := range cases {
		var changed []string
		after := digests(c.text, c.commit)
		for _, s := range makePlan(t, base, "c0").Steps {
			if before[s.Name] != after[s.Name] {
				changed = append(changed, s.Name)
			}
		}
		assert.Equal(t, c.changed, strings.Join(changed, " "), name)
	}
}

func TestWhatTheContainerIsMadeFrom(t *testing.T) {
	p := makePlan(t, `{"image": "i", "containerUser": "keeper", "workspaceFolder": "/src/x/sub", "workspaceMount": "source=${localWorkspaceFolder},target=/src/x,type=bind", "overrideCommand": false, "init": true, "forwardPorts": [80], "portsAttributes": {"80": {"label": "Board"}}}`, "c0")
	assert.Equal(t, "deck", p.Container.Hostname)
	assert.Equal(t, "/src/x", p.Container.SourceTarget)
	assert.False(t, p.Container.Override)
	assert.True(t, p.Container.Init)
	assert.Equal(t, "keeper", p.Session.User, "remoteUser is containerUser where it is not named")
	assert.Equal(t, "Board", p.Ports[0].Label)
	assert.NotEmpty(t, p.Container.Digest)
}

func TestWhereTheSourceIsMounted(t *testing.T) {
	assert.Equal(t, "/workspaces/deck", makePlan(t, `{"image": "i", "workspaceFolder": "/workspaces/deck/sub"}`, "c0").Container.SourceTarget, "workspaceFolder alone moves nothing")
	for _, mount := range []string{"source=/,target=/src/x,type=bind", "source=/etc,target=/src/x,type=bind", "source=${localWorkspaceFolder}/..,target=/src/x,type=bind",
		"source=else,target=/src/x,type=volume", "source=${localWorkspaceFolder},target=/,type=bind", "source=${localWorkspaceFolder},target=/proc/1,type=bind",
		"source=${localWorkspaceFolder},target=/x/../opt/domicile,type=bind"} {
		r := definition.Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(`{"image": "i", "workspaceFolder": "/src/x", "workspaceMount": "` + mount + `"}`)}}, definition.Options{Folder: "/workspaces/deck"})
		_, err := Make(r, Input{Name: "deck", Commit: "c0"})
		assert.Equal(t, "mount-refused", fault.Code(err), mount)
	}
}

// The core must stay testable alone: nothing of HTTP, SQL, engines or terminals in it.
func TestTheCoreImportsNothingOfTheOutsideWorld(t *testing.T) {
	seen := map[string]bool{}
	var look func(path, from string)
	look = func(path, from string) {
		if seen[path] || !strings.Contains(path, ".") && !strings.HasPrefix(path, "domicile") && !strings.HasPrefix(path, "net") && !strings.HasPrefix(path, "database") && path != "os/exec" {
			return
		}
		if path == "github.com/docker/go-units" { // it only reads amounts
			return
		}
		seen[path] = true
		for _, outside := range []string{"net/http", "net/rpc", "database/sql", "os/exec", "google.golang.org/grpc", "github.com/jackc", "github.com/docker", "github.com/moby/moby", "github.com/moby/term",
			"github.com/moby/buildkit/client", "github.com/moby/buildkit/session", "golang.org/x/term", "golang.org/x/crypto/ssh", "github.com/creack/pty"} {
			assert.False(t, path == outside || strings.HasPrefix(path, outside+"/"), "%s imports %s", from, path)
		}
		assert.NotEqual(t, "net", path, from) // net/url and net/netip only read text
		if p, err := build.Import(path, "../..", 0); err == nil {
			for _, i := range p.Imports {
				look(i, path)
			}
		}
	}
	for _, core := range []string{"domicile/internal/definition", "domicile/internal/plan"} {
		look(core, "the test")
		require.True(t, seen[core])
	}
	require.True(t, seen["github.com/tailscale/hujson"], "imports of imports are looked at")
}

func TestDigestsFitEveryNameAndState(t *testing.T) {
	r := definition.Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(`{"image": "i", "onCreateCommand": "a"}`)}}, definition.Options{Folder: "/workspaces/deck"})
	one, err := Make(r, Input{Name: "one", Commit: "c"})
	require.NoError(t, err)
	two, err := Make(r, Input{Name: "two", Commit: "c"})
	require.NoError(t, err)
	assert.Equal(t, one.Steps, two.Steps)
	assert.Equal(t, "two", two.Container.Hostname)
	small, err := Make(r, Input{Name: "one", Commit: "c", Size: Size{Name: "small", CPUs: 1, Memory: 1 << 30}})
	require.NoError(t, err)
	assert.NotEqual(t, one.Container.Digest, small.Container.Digest, "another size is another container")
	assert.Equal(t, Service{Name: "db"}.Digest(), Service{Name: "db", Saved: "state:1"}.Digest())
}

func TestAMountedFolderTakesTheVolumesPlace(t *testing.T) {
	r := definition.Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(`{"image": "i", "remoteUser": "crew"}`)}}, definition.Options{Folder: "/workspaces/deck"})
	p, err := Make(r, Input{Name: "deck", Mount: &Folder{Path: "/srv/deck", UID: 2000, GID: 2000}})
	require.NoError(t, err)
	assert.Equal(t, "image container agent ready", names(p.Steps))
	assert.Equal(t, "/srv/deck", p.Container.SourceFolder)
	require.NotNil(t, p.Recipe, "the user update is a layer")
	assert.Equal(t, 2000, p.Recipe.User.UID)
	p, err = Make(r, Input{Name: "deck", Mount: &Folder{Path: "/srv/deck"}})
	require.NoError(t, err)
	assert.Nil(t, p.Recipe, "root's folder changes nobody's numbers")
}

func TestSizes(t *testing.T) {
	sizes, err := ParseSizes("small=0.5:512mb, large=4:8gb")
	require.NoError(t, err)
	require.Len(t, sizes, 2)
	for _, bad := range []string{"small", "small=1", "small=0:1gb", "=1:1gb", "a=1:much", "a=1:1gb,a=2:2gb"} {
		_, err := ParseSizes(bad)
		assert.Equal(t, "bad-size", fault.Code(err), bad)
	}
	_, err = ChooseSize(sizes, "", "huge")
	assert.ErrorContains(t, err, `no size "huge"`)
	size, err := ChooseSize(sizes, "", "small", "large")
	require.NoError(t, err)
	make := func(text string) (*Plan, error) {
		r := definition.Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(text)}}, definition.Options{Folder: "/workspaces/deck"})
		return Make(r, Input{Name: "deck", Size: size})
	}
	p, err := make(`{"image": "i", "runArgs": ["--memory", "256m", "--cpus=2"]}`)
	require.NoError(t, err)
	assert.Equal(t, int64(256<<20), p.Container.Memory, "less than the size stays less")
	assert.Equal(t, 0.5, p.Container.CPUs)
	_, err = make(`{"image": "i", "hostRequirements": {"memory": "4gb"}}`)
	assert.Equal(t, "size-too-small", fault.Code(err))
}

func TestHostCommandsAndTheDoor(t *testing.T) {
	r := definition.Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(`{"image": "i", "initializeCommand": "make ready", "privileged": true, "customizations": {"domicile": {"engine": true}}}`)}}, definition.Options{Folder: "/workspaces/deck"})
	_, err := Make(r, Input{Name: "deck"})
	var refused judge.Refusals
	require.ErrorAs(t, err, &refused)
	assert.Len(t, refused, 2, "all that is refused is told at once")
	p, err := Make(r, Input{Name: "deck", Policy: judge.Policy{judge.AllowHostCommands, judge.AllowPrivileged}})
	require.NoError(t, err)
	assert.Equal(t, StepHost, p.Steps[0].Name)
	assert.True(t, p.Container.Door)
	assert.Equal(t, "unix://"+DoorSocket, *p.Session.Env["DOCKER_HOST"])
}

// A part of the source is a part of the container's own source, wherever the host has it.
func TestPartsOfTheSource(t *testing.T) {
	p := makePlan(t, `{"image": "i", "mounts": ["source=${localWorkspaceFolder}/data,target=/data,type=bind", {"type": "bind", "source": "${localWorkspaceFolder}", "target": "/whole"}, "source=${localWorkspaceFolder},target=/workspaces/deck,type=bind"],
		"runArgs": ["-v", "${localWorkspaceFolder}/a/../b:/b", "--mount", "type=bind,source=${localWorkspaceFolder}/c,target=/c"]}`, "c0")
	assert.Equal(t, []Mount{{Type: "file", Source: "data", Target: "/data"}, {Type: "source", Target: "/whole"}, {Type: "file", Source: "b", Target: "/b"}, {Type: "file", Source: "c", Target: "/c"}}, p.Container.Mounts)
}

// What a site cannot do is told at its line, before anything is made.
func TestWhatASiteCannotDoIsToldAtItsLine(t *testing.T) {
	for name, c := range map[string]struct {
		text  string
		lacks Lacks
		mount *Folder
		says  string
	}{
		"a door":      {"{\"image\": \"i\", \"customizations\": {\"domicile\": {\n\"engine\": true}}}", Lacks{Doors: true}, nil, ".devcontainer.json:2: the site quay has no door"},
		"a screen":    {"{\"image\": \"i\", \"customizations\": {\"domicile\": {\n\n\"screen\": \"1280x800\"}}}", Lacks{Screens: true}, nil, ".devcontainer.json:3: the site quay gives no workspace a screen"},
		"a folder":    {`{"image": "i"}`, Lacks{Folders: true}, &Folder{Path: "/srv/deck"}, "no folder can be mounted in place"},
		"all is well": {`{"image": "i", "customizations": {"domicile": {"engine": true}}}`, Lacks{Services: true, Folders: true}, nil, ""},
	} {
		t.Run(name, func(t *testing.T) {
			r := definition.Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(c.text)}}, definition.Options{Folder: "/workspaces/deck"})
			require.False(t, r.HasErrors(), "%v", r.Problems)
			_, err := Make(r, Input{Name: "deck", Host: Host{Site: "quay", Lacks: c.lacks}, Mount: c.mount, Policy: judge.Policy{judge.AllowHostMounts}})
			if c.says == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorContains(t, err, c.says)
		})
	}
}
