package e2e

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A private repository with a private neighbour as submodule, by a token that stays in the
// service's memory.
func TestPrivateRepositoriesByAToken(t *testing.T) {
	files := fstest.MapFS{".devcontainer.json": {Data: []byte(`{"image": "` + world.RegistryAt + `/skerry/base:12", "remoteUser": "crew"}`)}, "log.txt": {Data: []byte("the captain's log\n")}}
	require.NoError(t, world.Git.Put(t.Context(), "private/logbook", files, func(s string) string { return s }))
	source := world.GitAt + "/private/logbook.git"
	host := strings.TrimPrefix(world.GitAt, "http://")
	a := skipper.provision(t, source, "logbook")
	require.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "domicile githosts add "+host)

	c := skipper.command(t.Context(), world.Git.Password+"\n", "githosts", "add", host, "-user", world.Git.User)
	out, err := c.output()
	require.NoError(t, err, out)
	t.Cleanup(func() {
		assert.NoError(t, skipper.command(context.WithoutCancel(t.Context()), "", "githosts", "remove", host).Run())
	})
	assert.Contains(t, skipper.domicile(t, "githosts").out, "token of "+world.Git.User)
	a = skipper.domicile(t, "provision", source, "-name", "logbook")
	require.Equal(t, 0, a.status, a.err)
	inside := skipper.domicile(t, "run", "logbook", "--", "sh", "-c", "cat log.txt; cat .git/config; env").out
	assert.Contains(t, inside, "the captain's log")
	assert.Contains(t, inside, "url = "+source)
	for what, text := range map[string]string{"the workspace": inside, "the log": skipper.domicile(t, "log", "logbook").out, "the service": world.Service.Printed()} {
		assert.NotContains(t, text, world.Git.Password, what)
		assert.NotContains(t, text, "c2tpcHBlcjpsYW50ZXJu", what+" has it in base64")
	}
	found, err := exec.Command("grep", "-rl", world.Git.Password, filepath.Join(world.Folder(), "service")).CombinedOutput()
	assert.Error(t, err, "on the disk: %s", found)
	assert.Equal(t, 1, finn.provision(t, source, "logbook").status, "another's token is not for finn")
	assert.Contains(t, finn.domicile(t, "githosts").out, "no git host")
}

// Large files that a repository keeps apart from its history, by git LFS itself.
func TestLargeFiles(t *testing.T) {
	work := t.TempDir()
	git := func(args ...string) {
		t.Helper()
		c := exec.CommandContext(t.Context(), "git", args...)
		c.Dir = work
		c.Env = append(os.Environ(), "HOME="+work, "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL="+filepath.Join(work, "..", "lfs-settings"), "GIT_AUTHOR_NAME=S", "GIT_AUTHOR_EMAIL=s@skerry.test", "GIT_COMMITTER_NAME=S", "GIT_COMMITTER_EMAIL=s@skerry.test")
		out, err := c.CombinedOutput()
		require.NoError(t, err, "git %v: %s", args, out)
	}
	source := publish(t, "charts", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	git("clone", "--quiet", source, ".")
	git("lfs", "install", "--local")
	git("lfs", "track", "*.chart")
	chart := strings.Repeat("fathoms ", 50000)
	require.NoError(t, os.WriteFile(filepath.Join(work, "skerry.chart"), []byte(chart), 0o600))
	git("add", ".")
	git("commit", "--quiet", "-m", "A chart")
	git("config", "lfs.url", source+"/info/lfs")
	git("push", "--quiet", world.Git.Path("test/charts"), "HEAD:main") // the host takes pushes by its folder only
	bare, err := exec.Command("git", "-C", world.Git.Path("test/charts"), "cat-file", "-s", "main:skerry.chart").Output()
	require.NoError(t, err)
	require.Less(t, len(strings.TrimSpace(string(bare))), 4, "the repository has but a pointer")
	a := skipper.provision(t, source, "charts")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, a.err, "fetching 1 large files")
	sum := sha256.Sum256([]byte(chart))
	assert.Contains(t, skipper.domicile(t, "run", "charts", "--", "sha256sum", "skerry.chart").out, hex.EncodeToString(sum[:]))
}

func TestTheAuthorOfCommits(t *testing.T) {
	assert.Contains(t, skipper.domicile(t, "author", "-name", "Ada Skipper", "-mail", "ada@skerry.test").out, "Ada Skipper <ada@skerry.test>")
	assert.Contains(t, skipper.domicile(t, "author", "-mail", "nobody").err, "no mail address")
	source := publish(t, "authored", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "authored").status)
	said := skipper.domicile(t, "run", "authored", "--", "sh", "-c", "echo x > y && git add y && git commit -qm y && git log -1 --format='%an %ae %cn'").out
	assert.Equal(t, "Ada Skipper ada@skerry.test Ada Skipper", strings.TrimSpace(said))
}

// A folder of the host in place of a clone: both sides see each other's files, and the user
// has the owner's numbers.
func TestAFolderInPlace(t *testing.T) {
	folder := filepath.Join(world.Folder(), "folders", "in-place")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	text := `{"image": "` + world.RegistryAt + `/skerry/base:12", "remoteUser": "crew", "postCreateCommand": "id -u > made-inside"}`
	require.NoError(t, os.WriteFile(filepath.Join(folder, ".devcontainer.json"), []byte(text), 0o644))
	require.NoError(t, os.Chown(folder, 2468, 2469))
	refused := skipper.domicile(t, "provision", folder, "-name", "in-place", "-mount")
	assert.Equal(t, 1, refused.status)
	assert.Contains(t, refused.err, "-allow host-mounts")
	serveWith(t, "-allow", "host-mounts")
	a := skipper.provision(t, folder, "in-place", "-mount")
	require.Equal(t, 0, a.status, a.err)
	b, err := os.ReadFile(filepath.Join(folder, "made-inside"))
	require.NoError(t, err)
	assert.Equal(t, "2468", strings.TrimSpace(string(b)))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "made-outside"), []byte("hello"), 0o644))
	assert.Equal(t, "hello crew 2468 2469", strings.TrimSpace(skipper.domicile(t, "run", "in-place", "--", "sh", "-c", `echo $(cat made-outside) $(id -un) $(id -u) $(stat -c %g ~)`).out))
	skipper.remove(t, "in-place")
	assert.FileExists(t, filepath.Join(folder, "made-inside"), "the folder is not Domicile's to remove")
	outside := skipper.domicile(t, "provision", "/etc", "-name", "etc", "-mount")
	assert.Equal(t, 1, outside.status)
	t.Cleanup(func() { skipper.remove(t, "etc") })
}
