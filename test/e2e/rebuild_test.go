package e2e

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// A rebuild that fails, wherever it does, leaves the workspace as it was: running, with its
// files, its services and its record.
func TestARebuildThatFailsLeavesTheWorkspace(t *testing.T) {
	publishAt := func(stage, image, service string) string {
		return publish(t, "risky", `{"dockerComposeFile": "compose.yaml", "service": "work", "workspaceFolder": "/src", "remoteUser": "crew", "onCreateCommand": "`+stage+`"}`, map[string]string{
			".devcontainer/compose.yaml": "services:\n  work: { image: " + image + ", command: sleep infinity, volumes: ['..:/src'], depends_on: [store] }\n  store: { image: BASE, command: sleep infinity, environment: { KIND: " + service + " } }\n"})
	}
	source := publishAt("true", "BASE", "one")
	require.Equal(t, 0, skipper.provision(t, source, "risky").status)
	skipper.inside(t, "risky", "echo in-home > ~/note; echo in-source > note; echo 'make charts' >> ~/.bash_history")
	before := everything(t)
	containers := func() string {
		out, err := engineSays(t, "ps", "-q", "--no-trunc", "--filter", "label=domicile.workspace")
		require.NoError(t, err)
		return out
	}
	own := containers()
	for what, broken := range map[string][3]string{
		"a stage":          {"echo no wind >&2; exit 3", "BASE", "two"},
		"an image":         {"true", world.RegistryAt + "/skerry/none:1", "one"},
		"a service's wish": {"true", "BASE", "two }, healthcheck: { test: [CMD, 'false'], interval: 100ms, retries: 1"},
	} {
		t.Run(what, func(t *testing.T) {
			publishAt(broken[0], broken[1], broken[2])
			if what == "a service's wish" {
				publish(t, "risky", `{"dockerComposeFile": "compose.yaml", "service": "work", "workspaceFolder": "/src", "remoteUser": "crew"}`, map[string]string{
					".devcontainer/compose.yaml": "services:\n  work: { image: BASE, command: sleep infinity, volumes: ['..:/src'], depends_on: { store: { condition: service_healthy } } }\n  store: { image: BASE, command: sleep infinity, healthcheck: { test: [CMD, 'false'], interval: 100ms, retries: 1 } }\n  more: { image: BASE, command: sleep infinity }\n"})
			}
			a := skipper.domicile(t, "rebuild", "risky")
			require.Equal(t, 1, a.status, a.out)
			w := skipper.workspace(t, "risky")
			assert.Equal(t, client.WorkspaceStateReady, w.State, a.err)
			assert.Contains(t, *w.Reason, "the rebuild failed")
			assert.Equal(t, own, containers(), "the same containers run again")
			assert.Equal(t, "in-home in-source", skipper.inside(t, "risky", "echo $(cat ~/note note)"))
			assert.ElementsMatch(t, before, everything(t), "nothing is left of what was tried")
		})
	}
	publishAt("echo made > ~/made", "BASE", "three")
	foreseen := skipper.domicile(t, "rebuild", "risky", "-foresee")
	require.Equal(t, 0, foreseen.status, foreseen.err)
	assert.NotContains(t, foreseen.out, "What is lost", "only a service and a stage changed: "+foreseen.out)
	a := skipper.domicile(t, "rebuild", "risky")
	require.Equal(t, 0, a.status, a.err)
	assert.Nil(t, skipper.workspace(t, "risky").Reason)
	assert.Equal(t, "in-home in-source made", skipper.inside(t, "risky", "echo $(cat ~/note note ~/made)"))
	assert.Len(t, everything(t), len(before))

	publish(t, "risky", `{"image": "BASE", "remoteUser": "crew", "containerEnv": {"A": "b"}, "workspaceFolder": "/workspaces/risky"}`, nil)
	terminal := openTerminal(t, "risky", "work")
	terminal.typed("sleep 100\n")
	eventually(t, 10*time.Second, "what is lost is foreseen", func() bool {
		return strings.Contains(skipper.domicile(t, "rebuild", "risky", "-foresee").out, "in which sleep 100 runs")
	})
	said := skipper.domicile(t, "rebuild", "risky", "-foresee").out
	assert.Contains(t, said, "The container is replaced. The earlier one is kept until the new one works.")
	assert.Contains(t, said, "files in /home/crew")
	require.Equal(t, 0, skipper.domicile(t, "rebuild", "risky").status)
	assert.Equal(t, "in-source make charts", skipper.inside(t, "risky", "echo $(cat note ~/.bash_history 2>/dev/null | tail -2)"), "what the shell remembers came along")
}

// A rebuild that is ended by a stop leaves the workspace as it was before, stopped.
func TestARebuildThatIsEndedByAStop(t *testing.T) {
	source := publish(t, "halted", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "halted").status)
	skipper.inside(t, "halted", "echo mine > ~/note")
	before := everything(t)
	publish(t, "halted", `{"image": "BASE", "remoteUser": "crew", "containerEnv": {"A": "b"}, "postCreateCommand": "sleep 300"}`, nil)
	_, err := client.Answer[client.Workspace](skipper.api.RebuildWorkspace(t.Context(), "halted", nil))
	require.NoError(t, err)
	eventually(t, time.Minute, "it is in the midst of it", func() bool {
		for _, s := range skipper.workspace(t, "halted").Run.Steps {
			if s.Name == "postCreateCommand" && s.State == client.StepStateRunning {
				return true
			}
		}
		return false
	})
	require.Equal(t, 0, skipper.domicile(t, "stop", "halted").status)
	assert.ElementsMatch(t, before, everything(t), "nothing is left of the rebuild")
	assert.Contains(t, skipper.domicile(t, "log", "halted").out, "the workspace is what it was before")
	require.Equal(t, 0, skipper.domicile(t, "start", "halted").status)
	assert.Equal(t, "mine none", skipper.inside(t, "halted", "echo $(cat ~/note) ${A:-none}"))
}

// Killed in the midst of a rebuild that replaces the container, it ends well, or leaves
// the workspace as it was.
func TestAKilledRebuild(t *testing.T) {
	definition := func(n, end string) string {
		return `{"image": "BASE", "remoteUser": "crew", "containerEnv": {"N": "` + n + `"}, "postCreateCommand": "echo $N > ~/n; ` + end + `"}`
	}
	for step, end := range map[string]string{"container": "true", "agent": "true", "postCreateCommand": "exit 1", "put-back": "exit 1"} {
		t.Run(step, func(t *testing.T) {
			name := "killed-" + strings.ToLower(step)
			source := publish(t, "killed", definition("1", "true"), nil)
			require.Equal(t, 0, skipper.provision(t, source, name).status)
			count := len(objects(t))
			publish(t, "killed", definition("2", end), nil)
			killAt(t, name, step, func() error {
				_, err := client.Answer[client.Workspace](skipper.api.RebuildWorkspace(t.Context(), name, nil))
				return err
			})
			a := skipper.domicile(t, "follow", name)
			want := "2"
			if end != "true" {
				want = "1"
				assert.Equal(t, 1, a.status)
				steps := skipper.workspace(t, name).Run.Steps
				last := steps[len(steps)-1]
				assert.Equal(t, "Put the earlier workspace back", last.Title)
				assert.Equal(t, client.StepStateDone, last.State)
				if step == "put-back" {
					i := slices.IndexFunc(steps, func(s client.Step) bool { return s.Name == "postCreateCommand" })
					assert.Equal(t, 1, steps[i].Attempts, "what failed is not tried again in the earlier container")
				}
			} else {
				assert.Equal(t, 0, a.status, a.err)
			}
			assert.Equal(t, client.WorkspaceStateReady, skipper.workspace(t, name).State)
			assert.Equal(t, want, skipper.inside(t, name, "cat ~/n"))
			assert.Len(t, objects(t), count)
			skipper.remove(t, name)
		})
	}
}

// Services that were removed or stopped from outside come back; one that ended by itself
// does not.
func TestServicesAreLookedAfter(t *testing.T) {
	source := publish(t, "tended", `{"dockerComposeFile": "compose.yaml", "service": "work", "workspaceFolder": "/src", "remoteUser": "crew"}`, map[string]string{
		".devcontainer/compose.yaml": "services:\n  work: { image: BASE, command: sleep infinity, volumes: ['..:/src'] }\n  lamp: { image: BASE, command: sleep infinity }\n  once: { image: BASE, command: 'true' }\n"})
	require.Equal(t, 0, skipper.provision(t, source, "tended").status)
	lamp := func() string {
		out, err := engineSays(t, "ps", "-q", "--filter", "label=domicile.service=lamp")
		require.NoError(t, err)
		return strings.TrimSpace(out)
	}
	for _, how := range [][]string{{"rm", "-f"}, {"stop", "-t", "0"}} {
		gone := lamp()
		out, err := engineSays(t, append(how, gone)...)
		require.NoError(t, err, out)
		eventually(t, 30*time.Second, "the service is back", func() bool { return lamp() != "" && skipper.workspace(t, "tended").State == client.WorkspaceStateReady })
	}
	assert.Regexp(t, `once .*ended with exit status 0`, skipper.domicile(t, "services", "tended").out)
	assert.Contains(t, *skipper.workspace(t, "tended").Run.Note, "its service lamp was stopped")
}

func TestThePlanNamesAllThatIsRefused(t *testing.T) {
	source := publish(t, "greedy", "{\"image\": \"BASE\",\n\"privileged\": true,\n\"initializeCommand\": \"true\",\n\"runArgs\": [\"--network=host\", \"--unheard-of=1\"]}", nil)
	a := skipper.domicile(t, "plan", source)
	assert.Equal(t, 1, a.status)
	for _, says := range []string{"json:2: it asks to be privileged", "json:3: initializeCommand", "json:4: it asks for the network host", "--unheard-of has no equivalent", "domicile serve -allow privileged"} {
		assert.Contains(t, a.out, says)
	}
}

// New commits come where they are asked for: forward, never over changes, and then only
// updateContentCommand runs again.
func TestARebuildWithNewCommits(t *testing.T) {
	const definition = `{"image": "BASE", "remoteUser": "crew", "onCreateCommand": "echo created >> ~/ran", "updateContentCommand": "echo content-$(cat tide) >> ~/ran", "postCreateCommand": "echo post >> ~/ran"}`
	put := func(tide string) string {
		return publish(t, "pulled", definition, map[string]string{"tide": tide + "\n"})
	}
	source := put("ebb")
	require.Equal(t, 0, skipper.provision(t, source, "pulled").status)
	first := *skipper.workspace(t, "pulled").Commit
	put("flood")
	require.Equal(t, 0, skipper.domicile(t, "rebuild", "pulled").status)
	assert.Equal(t, "ebb", skipper.inside(t, "pulled", "cat tide"), "without -pull the source stays")

	foreseen := skipper.domicile(t, "rebuild", "pulled", "-pull", "-foresee")
	assert.Contains(t, foreseen.out, "Bring new commits into the source")
	assert.NotContains(t, foreseen.out, "onCreateCommand")
	skipper.inside(t, "pulled", "echo mine > untracked; echo changed > tide")
	a := skipper.domicile(t, "rebuild", "pulled", "-pull")
	require.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "has changes, over which no commits are brought: M tide")
	assert.Equal(t, client.WorkspaceStateReady, skipper.workspace(t, "pulled").State)

	skipper.inside(t, "pulled", "git checkout -q tide")
	a = skipper.domicile(t, "rebuild", "pulled", "-pull")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "flood mine", skipper.inside(t, "pulled", "echo $(cat tide untracked)"))
	assert.Equal(t, "created content-ebb post content-flood", skipper.inside(t, "pulled", "echo $(cat ~/ran)"))
	now := skipper.workspace(t, "pulled")
	assert.NotEqual(t, first, *now.Commit)
	assert.Equal(t, *now.Commit+" "+*now.Commit, skipper.inside(t, "pulled", "echo $(git rev-parse HEAD origin/main)"))
	a = skipper.domicile(t, "rebuild", "pulled", "-pull")
	require.Equal(t, 0, a.status, "nothing new: "+a.err)

	// A container that is replaced meanwhile gets them, too; commits of one's own are kept.
	publish(t, "pulled", strings.Replace(definition, `"crew"`, `"crew", "containerEnv": {"NEW": "1"}`, 1), map[string]string{"tide": "slack\n"})
	require.Equal(t, 0, skipper.domicile(t, "rebuild", "pulled", "-pull", "-yes").status)
	assert.Equal(t, "1 slack mine", skipper.inside(t, "pulled", "echo $NEW $(cat tide untracked)"))
	skipper.inside(t, "pulled", "git -c user.name=C -c user.email=c@skerry.test commit -qam mine --allow-empty")
	put("ebb again")
	a = skipper.domicile(t, "rebuild", "pulled", "-pull", "-yes")
	require.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "does not come after")
	assert.Equal(t, "slack", skipper.inside(t, "pulled", "cat tide"))
	skipper.inside(t, "pulled", "git switch -q -c other")
	a = skipper.domicile(t, "rebuild", "pulled", "-pull", "-yes")
	assert.Contains(t, a.err, "the branch other is checked out")
}
