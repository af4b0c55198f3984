package e2e

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// inside runs a shell's line in a workspace and gives what it printed.
func (p *person) inside(t *testing.T, name, line string) string {
	t.Helper()
	a := p.domicile(t, "run", name, "--", "sh", "-c", line)
	require.Equal(t, 0, a.status, "%s: %s%s", line, a.out, a.err)
	return strings.TrimSpace(a.out)
}

// keep keeps a snapshot and gives its number.
func (p *person) keep(t *testing.T, name, note string) string {
	t.Helper()
	a := p.domicile(t, "snapshots", "keep", name, "-note", note)
	require.Equal(t, 0, a.status, a.out+a.err)
	list, err := client.Answer[[]client.Snapshot](p.api.ListSnapshots(t.Context()))
	require.NoError(t, err)
	id := strconv.FormatInt(list[0].Id, 10)
	t.Cleanup(func() { // one that was handed on is not there
		_ = p.command(context.WithoutCancel(t.Context()), "", "snapshots", "remove", id, "-yes").Run()
	})
	return id
}

// The board with its database: files, volumes and services of one moment, returned to, made
// again under another name, and handed on.
func TestSnapshots(t *testing.T) {
	require.Equal(t, 0, skipper.provision(t, repository("quayboard"), "board").status)
	rows := func(p *person, name string) string {
		return p.inside(t, name, `psql -h db -U postgres -Atc "select count(*) from departures"`)
	}
	before := rows(skipper, "board")
	skipper.inside(t, "board", "echo one > ~/note; echo two > note; mkdir -p ~/empty; ln -s note ~/link")
	id := skipper.keep(t, "board", "with two notes")
	assert.Regexp(t, id+` +board +just now +[0-9.]+ MB +with two notes`, skipper.domicile(t, "snapshots").out)
	assert.Equal(t, "ready", string(skipper.workspace(t, "board").State))
	assert.Equal(t, before, rows(skipper, "board"), "nothing is paused any more")
	skipper.inside(t, "board", `rm ~/note note; psql -h db -U postgres -qc "delete from departures"`)
	assert.Equal(t, "0", rows(skipper, "board"))

	t.Run("another workspace of it", func(t *testing.T) {
		t.Cleanup(func() { skipper.remove(t, "board-two") })
		a := skipper.domicile(t, "snapshots", "make", id, "-name", "board-two")
		require.Equal(t, 0, a.status, a.out+a.err)
		assert.Equal(t, before, rows(skipper, "board-two"))
		assert.Equal(t, "one two board-two crew", skipper.inside(t, "board-two", "echo $(cat ~/note note) $(hostname) $(stat -c %U note)"))
		again := skipper.domicile(t, "rebuild", "board-two")
		require.Equal(t, 0, again.status, again.err)
		assert.Contains(t, again.out, "there is nothing to do again")
		assert.Equal(t, "one", skipper.inside(t, "board-two", "cat ~/note"), "a rebuild with nothing changed keeps it")
	})
	t.Run("returned to", func(t *testing.T) {
		refused := skipper.domicile(t, "snapshots", "return", "board", id)
		assert.Equal(t, 2, refused.status, "nobody can be asked here")
		a := skipper.domicile(t, "snapshots", "return", "board", id, "-yes")
		require.Equal(t, 0, a.status, a.out+a.err)
		assert.Equal(t, before, rows(skipper, "board"))
		assert.Equal(t, "one two", skipper.inside(t, "board", "echo $(cat ~/note note)"))
	})
	t.Run("handed on", func(t *testing.T) {
		assert.Contains(t, finn.domicile(t, "snapshots", "make", id).err, "you have no snapshot")
		a := skipper.domicile(t, "snapshots", "hand", id, "-to", "finn", "-yes")
		require.Equal(t, 0, a.status, a.err)
		assert.NotContains(t, skipper.domicile(t, "snapshots").out, "with two notes")
		t.Cleanup(func() { finn.remove(t, "gift") })
		require.Equal(t, 0, finn.domicile(t, "snapshots", "make", id, "-name", "gift").status)
		assert.Equal(t, before, rows(finn, "gift"))
		require.Equal(t, 0, finn.domicile(t, "snapshots", "remove", id, "-yes").status)
		assert.Equal(t, before, rows(finn, "gift"), "what was made of it stays")
	})
	images, err := engineSays(t, "image", "ls", "--format", "{{.Repository}}:{{.Tag}}", "--filter", "reference=domicile-state")
	require.NoError(t, err)
	assert.Empty(t, strings.TrimSpace(images))
}

// A service whose image declares its data folder a volume: the engine does not fill that by
// itself.
func TestSnapshotsOfDeclaredVolumes(t *testing.T) {
	source := publish(t, "declared", `{"dockerComposeFile": "compose.yaml", "service": "work", "workspaceFolder": "/src", "remoteUser": "crew"}`, map[string]string{
		".devcontainer/compose.yaml": "services:\n  work: { image: BASE, command: sleep infinity, volumes: ['..:/src'] }\n  store: { build: { context: . }, command: sleep infinity, volumes: ['data:/data'] }\nvolumes: { data: {} }\n",
		".devcontainer/Dockerfile":   "FROM BASE\nRUN mkdir /data /other && echo made > /data/of-image\nVOLUME /data /other\n"})
	a := skipper.provision(t, source, "declared")
	require.Equal(t, 0, a.status, a.err)
	store := func(name, line string) string {
		all, err := engineSays(t, "ps", "-a", "--format", "{{.Names}}")
		require.NoError(t, err)
		for c := range strings.FieldsSeq(all) {
			if strings.HasSuffix(c, fmt.Sprintf("-w%d-store", skipper.workspace(t, name).Id)) {
				out, err := dockerExec(t, c, "sh", "-c", line)
				require.NoError(t, err, out)
				return strings.TrimSpace(out)
			}
		}
		t.Fatalf("there is no store of %s among %s", name, all)
		return ""
	}
	store("declared", "mkdir -p /data/deep/er && echo kept > /data/deep/er/file && echo anonymous > /other/file && rm /data/of-image")
	id := skipper.keep(t, "declared", "")
	store("declared", "echo later > /data/deep/er/file")
	t.Cleanup(func() { skipper.remove(t, "declared-two") })
	a = skipper.domicile(t, "snapshots", "make", id, "-name", "declared-two")
	require.Equal(t, 0, a.status, a.out+a.err)
	assert.Equal(t, "kept anonymous deep", store("declared-two", "echo $(cat /data/deep/er/file /other/file) $(ls -A /data)"), "nothing of the image's own is mixed in")
	assert.Equal(t, "later", store("declared", "cat /data/deep/er/file"))
}

// What was prepared is begun with by whoever provisions that commit, and is prepared again
// when the branch moves.
func TestPrepare(t *testing.T) {
	definition := func(n int) string {
		return fmt.Sprintf(`{"image": "BASE", "remoteUser": "crew", "onCreateCommand": "echo made-$(hostname) >> ~/early", "updateContentCommand": "echo content %d >> ~/early; echo generated > generated",
			"postCreateCommand": "echo late >> ~/late", "secrets": {"TIDE_TOKEN": {}}}`, n)
	}
	source := publish(t, "ahead", definition(1), nil)
	serveWith(t, "-look-every", "1s")
	a := skipper.domicile(t, "prepare", source, "-follow")
	require.Equal(t, 0, a.status, a.out+a.err)
	t.Cleanup(func() { // where the test did not get to its end
		_ = skipper.command(context.WithoutCancel(t.Context()), "", "prepare", "remove", "ahead@").Run()
	})
	assert.NotContains(t, a.err, "postCreateCommand", "a person is not known yet")
	assert.Empty(t, objects(t), "what it was prepared in is gone")
	assert.NotContains(t, skipper.domicile(t, "list").out, "ahead")
	assert.Regexp(t, `ahead@ +prepared +[0-9a-f]{12} +yes`, skipper.domicile(t, "prepare").out)
	assert.Contains(t, finn.domicile(t, "plan", source).out, "there already")

	a = finn.provision(t, source, "ahead")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, a.err, "begins with what was prepared")
	assert.Equal(t, "content 1 generated late ahead crew", finn.inside(t, "ahead", "echo $(tail -1 ~/early) $(cat generated ~/late) $(hostname) $(stat -c %U generated)"))
	assert.Equal(t, "2", finn.inside(t, "ahead", "wc -l < ~/early"), "the early stages did not run again")
	for _, s := range finn.workspace(t, "ahead").Run.Steps {
		if s.Name == "onCreateCommand" || s.Name == "updateContentCommand" || s.Name == "source" {
			assert.Equal(t, client.StepStateSkipped, s.State, s.Name)
		}
	}
	publish(t, "ahead", definition(2), nil)
	eventually(t, 40*time.Second, "the branch is followed", func() bool {
		list, err := client.Answer[[]client.Prepared](skipper.api.ListPrepared(t.Context()))
		return err == nil && len(list) == 1 && list[0].State == "prepared" && *list[0].Commit != *finn.workspace(t, "ahead").Commit
	})
	a = finn.provision(t, source, "ahead-two")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, a.err, "begins with what was prepared")
	assert.Equal(t, "content 2", finn.inside(t, "ahead-two", "tail -1 ~/early"))
	refused := skipper.ssh(t, "", "ahead@@127.0.0.1", "true")
	assert.Equal(t, 255, refused.status, "nobody gets into what is prepared")
	finn.remove(t, "ahead")
	finn.remove(t, "ahead-two")
	require.Equal(t, 0, skipper.domicile(t, "prepare", "remove", "ahead@").status)
	eventually(t, 20*time.Second, "nothing prepared is left", func() bool {
		out, err := engineSays(t, "image", "ls", "-q", "--filter", "reference=domicile-state")
		return err == nil && strings.TrimSpace(out) == "" && strings.Contains(skipper.domicile(t, "prepare").out, "Nothing is prepared")
	})
}
