package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/records"
)

func TestBadInputIsToldWithPlaceReasonAndRemedy(t *testing.T) {
	require.NoError(t, world.Git.Put(t.Context(), "private/logbook", os.DirFS("testdata/empty"), func(s string) string { return s }))
	bare := publish(t, "bare", "{}", nil)
	broken := publish(t, "broken", "{\n  \"image\": \"BASE\"\n  \"name\": \"no comma\"\n}", nil)
	noImage := publish(t, "no-image", `{ "image": "`+world.RegistryAt+`/skerry/nosuch:1" }`, nil)
	noRegistry := publish(t, "no-registry", `{ "image": "127.0.0.1:9/skerry/base:12" }`, nil)
	noUser := publish(t, "no-user", `{ "image": "BASE", "remoteUser": "stowaway" }`, nil)
	cases := map[string]struct {
		args []string
		says []string
	}{
		"an address that does not answer": {[]string{"http://127.0.0.1:9/skerry/timetable.git"}, []string{"does not answer", "try again when the git host answers"}},
		"no repository":                   {[]string{world.GitAt + "/skerry/nosuch.git"}, []string{"is not a git repository", "correct the address"}},
		"needs credentials":               {[]string{world.GitAt + "/private/logbook.git"}, []string{"without credentials", "domicile githosts add"}},
		"a ref that is not there":         {[]string{repository("timetable"), "-ref", "winter"}, []string{`no branch, tag or commit "winter"`}},
		"an option as ref":                {[]string{repository("timetable"), "-ref=--upload-pack=x"}, []string{"no branch, tag or commit"}},
		"a local file":                    {[]string{"file:///etc"}, []string{"addresses that begin with file:"}},
		"a program of git's":              {[]string{"ext::sh -c id"}, []string{"cannot be used"}},
		"an option":                       {[]string{"--", "--upload-pack=id"}, []string{"begins with a hyphen"}},
		"a folder that is not allowed":    {[]string{"/etc"}, []string{"not among those that may be used", "-source-folders"}},
		"an impossible name":              {[]string{repository("timetable"), "-name", "Über"}, []string{"cannot be a name here", "lower-case"}},
		"nothing to make it from":         {[]string{bare}, []string{".devcontainer/devcontainer.json:1:1", "image, build or dockerComposeFile"}},
		"broken JSON":                     {[]string{broken}, []string{".devcontainer/devcontainer.json:3:3", "a comma is missing"}},
		"an image that is not there":      {[]string{noImage}, []string{"has no image " + world.RegistryAt + "/skerry/nosuch:1", "correct image in the definition"}},
		"a registry that is down":         {[]string{noRegistry}, []string{"registry 127.0.0.1:9 does not answer", "start the registry"}},
		"a user that is not there":        {[]string{noUser}, []string{`no user "stowaway"`, "correct remoteUser"}},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			t.Parallel() // some are tried again for a while
			workspace := "bad-" + strings.Trim(strings.ToLower(strings.ReplaceAll(strings.ReplaceAll(name, " ", "-"), "'", "")), "-")
			args := append([]string{"provision"}, c.args...)
			if !strings.Contains(strings.Join(c.args, " "), "-name") && c.args[0] != "--" {
				args = append(args, "-name", workspace)
			}
			t.Cleanup(func() { skipper.remove(t, workspace) })
			a := skipper.domicile(t, args...)
			assert.Equal(t, 1, a.status, a.out)
			for _, s := range c.says {
				assert.Contains(t, a.err, s)
			}
		})
	}
}

func TestARegistryThatFailsForAWhile(t *testing.T) {
	// The image is pulled only where the engine does not have it: give it another name.
	source := publish(t, "flaky", `{ "image": "`+world.RegistryAt+`/skerry/flaky:1" }`, nil)
	pushAs(t, "skerry/flaky:1")
	world.Registry.Fail(3)
	a := skipper.provision(t, source, "flaky")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, a.err, "trying again in")
}

func TestTwoRequestsForOneNameAtOnce(t *testing.T) {
	t.Cleanup(func() { skipper.remove(t, "twin") })
	var both sync.WaitGroup
	answers := make([]answer, 2)
	for i := range answers {
		both.Go(func() { answers[i] = skipper.domicile(t, "provision", repository("timetable"), "-name", "twin") })
	}
	both.Wait()
	if answers[0].status != 0 {
		answers[0], answers[1] = answers[1], answers[0]
	}
	assert.Equal(t, 0, answers[0].status, answers[0].err)
	assert.Equal(t, 1, answers[1].status)
	assert.Contains(t, answers[1].err, "domicile follow twin")
	a := skipper.domicile(t, "provision", repository("fares"), "-name", "twin")
	assert.Contains(t, a.err, "you have a workspace twin already")
}

func TestSeveralDefinitions(t *testing.T) {
	source := publish(t, "several", `{ "image": "BASE" }`, map[string]string{".devcontainer/night/devcontainer.json": `{ "image": "` + world.RegistryAt + `/skerry/base:12", "containerEnv": { "WATCH": "night" } }`})
	a := skipper.provision(t, source, "several")
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "choose one: .devcontainer/devcontainer.json, .devcontainer/night/devcontainer.json")
	a = skipper.domicile(t, "provision", source, "-name", "several", "-file", ".devcontainer/night/devcontainer.json")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "night\n", skipper.domicile(t, "run", "several", "--", "printenv", "WATCH").out)
}

func TestAFolderThatIsAllowed(t *testing.T) {
	folder := filepath.Join(world.Folder(), "folders", "shed")
	require.NoError(t, os.MkdirAll(filepath.Join(folder, ".devcontainer"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, ".devcontainer.json"), []byte(`{ "image": "`+world.RegistryAt+`/skerry/base:12", "remoteUser": "crew" }`), 0o600))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(folder, "leads-out")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(filepath.Dir(folder), "out")))
	a := skipper.provision(t, folder, "shed")
	require.Equal(t, 0, a.status, a.err)
	inside := skipper.domicile(t, "run", "shed", "--", "sh", "-c", "pwd; readlink leads-out; stat -c %U .devcontainer.json").out
	assert.Equal(t, "/workspaces/shed\n/etc/passwd\ncrew\n", inside, "a link stays a link")
	assert.Contains(t, skipper.provision(t, filepath.Join(filepath.Dir(folder), "out"), "out").err, "not among those")
}

func TestADiskThatIsFullWhileTheSourceIsPutIn(t *testing.T) {
	source := publish(t, "heavy", `{ "image": "BASE", "remoteUser": "crew" }`, map[string]string{"cargo": strings.Repeat("ballast ", 1<<19)})
	// Ids are given in order: the next workspace's volume is made beforehand, on a small disk of its own.
	require.Equal(t, 0, skipper.provision(t, repository("timetable"), "before").status)
	store, err := records.Open(t.Context(), world.Postgres.URL)
	require.NoError(t, err)
	defer store.Close()
	installation, err := store.Installation(t.Context(), "")
	require.NoError(t, err)
	volume := fmt.Sprintf("domicile-%s-w%d", installation, skipper.workspace(t, "before").Id+1)
	root, err := engineSays(t, "info", "-f", "{{.DockerRootDir}}")
	require.NoError(t, err, root)
	user, _, mapped := strings.Cut(filepath.Base(strings.TrimSpace(root)), ".")
	require.True(t, mapped, "the engine maps root to a user without rights")
	docker(t, "volume", "create", "--driver", "local", "--opt", "type=tmpfs", "--opt", "device=tmpfs", "--opt", "o=size=1m,uid="+user+",gid="+user, volume)
	a := skipper.provision(t, source, "heavy")
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "the disk is full")
	assert.Contains(t, a.err, "free space on the site's disk")
	// Room is made, and provisioning goes on from there.
	docker(t, "rm", "-f", volume) // the container has the volume's name
	docker(t, "volume", "rm", volume)
	a = skipper.domicile(t, "provision", source, "-name", "heavy")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "4194304\n", skipper.domicile(t, "run", "heavy", "--", "stat", "-c", "%s", "cargo").out)
}

func docker(t *testing.T, args ...string) {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "docker", append([]string{"-H", world.EngineAt}, args...)...).CombinedOutput()
	require.NoError(t, err, string(out))
}
