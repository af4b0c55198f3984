package e2e

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func versioned(t *testing.T, name string) string {
	t.Helper()
	return publish(t, name, `{"build": {"dockerfile": "Dockerfile", "args": {"LINE": "skerry"}}, "remoteUser": "crew", "features": {"`+world.FeaturesAt()+`/tide:2": {}}, "containerEnv": {"QUAY": "north"}}`,
		map[string]string{".devcontainer/Dockerfile": "FROM BASE\nARG LINE\nRUN echo $LINE > /etc/line\n"})
}

func TestOneCommandInSeveralVersions(t *testing.T) {
	t.Parallel()
	source := versioned(t, "versions")
	a := skipper.domicile(t, "run", "-each", "features.tide.harbour=North Quay,Lamb Island,Nowhere", "-each", "build.args.LINE=ferry", source, "--", "sh", "-c", `tide; cat /etc/line; case "$(tide)" in Lamb*) exit 3;; esac`)
	assert.Equal(t, 3, a.status, "the first exit status that is not 0: %s", a.err)
	lines := strings.Split(a.out, "\n")
	assert.Regexp(t, `^features.tide.harbour=North Quay build.args.LINE=ferry +0 +\S+ s +\S+ s +ferry$`, lines[1])
	assert.Regexp(t, `^features.tide.harbour=Lamb Island build.args.LINE=ferry +3 .*ferry$`, lines[2])
	assert.Regexp(t, `^features.tide.harbour=Nowhere .*-.*could not be tried`, lines[3])
	assert.Contains(t, a.out, "== features.tide.harbour=North Quay build.args.LINE=ferry\nNorth Quay: high water")
	assert.Contains(t, a.err, "Nowhere build.args.LINE=ferry: could not be made")
	assert.NotContains(t, skipper.domicile(t, "list").out, "versions-v", "they are removed afterwards")

	a = skipper.domicile(t, "run", "-each", "containerEnv.QUAY=south,east", "-json", source, "--", "printenv", "QUAY")
	require.Equal(t, 0, a.status, a.err)
	var list []struct {
		Vary   []string
		Status int
		Output string
	}
	require.NoError(t, json.Unmarshal([]byte(a.out), &list))
	require.Len(t, list, 2)
	assert.Equal(t, "south\n", list[0].Output)
	assert.Equal(t, []string{"containerEnv.QUAY=east"}, list[1].Vary)

	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"run", "-each", "image", source, "--", "true"}, "KEY=VALUE is wanted"},
		{[]string{"run", "-each", "image=,", source, "--", "true"}, "names no value"},
		{[]string{"run", "-keep", "nowhere", "--", "true"}, "-keep needs -each"},
		{[]string{"run", "-each", "runArgs=--privileged", source, "--", "true"}, "names no property that can be varied"},
	} {
		a := skipper.domicile(t, c.args...)
		assert.NotEqual(t, 0, a.status)
		assert.Contains(t, a.err+a.out, c.says)
	}
}

func TestAWorkspaceWithOtherValues(t *testing.T) {
	t.Parallel()
	source := versioned(t, "varied")
	a := skipper.provision(t, source, "varied", "-vary", "build.args.LINE=ferry", "-vary", "features.tide.feet=true", "-vary", "containerEnv.QUAY=west")
	require.Equal(t, 0, a.status, a.err)
	inside := func() string {
		return skipper.domicile(t, "run", "varied", "--", "sh", "-c", "cat /etc/line; printenv QUAY; tide").out
	}
	assert.Regexp(t, `^ferry\nwest\n.* ft\n$`, inside())
	assert.Contains(t, skipper.domicile(t, "show", "varied").out, "build.args.LINE=ferry, features.tide.feet=true, containerEnv.QUAY=west")
	assert.Contains(t, skipper.domicile(t, "drift", "varied").out, "is as its definition says", "with its variations")
	require.Equal(t, 0, skipper.domicile(t, "rebuild", "varied", "-yes").status)
	assert.Regexp(t, `^ferry\nwest\n.* ft\n$`, inside(), "a rebuild keeps them")
	// What a variation names is judged like what a definition names.
	a = finn.domicile(t, "plan", publish(t, "sly", `{"image": "BASE"}`, nil), "-vary", "image=domicile-image:"+strings.Repeat("a", 32))
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.out+a.err, "domicile-image")
	a = skipper.domicile(t, "provision", source, "-name", "wrong", "-vary", "features.moon.phase=full")
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "the definition has no feature moon, but tide")
	skipper.remove(t, "wrong")
}
