package e2e

import (
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/definition"
	"domicile/internal/fault"
)

// hostile is a repository that reaches for what is not its own. It is refused at one of its
// lines, or it is harmless: then it is planned, and nothing of the host or of others is in
// the plan.
type hostile struct {
	files    map[string]string
	harmless bool
}

const (
	definitionFile = ".devcontainer/devcontainer.json"
	composeFile    = ".devcontainer/compose.yaml"
)

// withLine is a definition of an image and one more line.
func withLine(line string) hostile {
	return hostile{files: map[string]string{definitionFile: "{\n\"image\": \"BASE\",\n" + line + "\n}"}}
}

// withRunArgs is a definition with engine flags.
func withRunArgs(args ...string) hostile {
	return withLine(`"runArgs": ["` + strings.Join(args, `", "`) + `"]`)
}

// withImage is a definition of an image alone.
func withImage(name string) hostile {
	return hostile{files: map[string]string{definitionFile: "{\n\"image\": \"" + name + "\"\n}"}}
}

// withDockerfile is a definition that is built.
func withDockerfile(text, more string) hostile {
	return hostile{files: map[string]string{definitionFile: "{\n\"build\": {\"dockerfile\": \"Dockerfile\"" + more + "}\n}", ".devcontainer/Dockerfile": text}}
}

// withService is a Compose file whose own service has more lines.
func withService(lines ...string) hostile {
	return withCompose("services:\n  work:\n    image: BASE\n    command: sleep infinity\n    " + strings.Join(lines, "\n    ") + "\n")
}

func withCompose(text string) hostile {
	return hostile{files: map[string]string{definitionFile: `{"dockerComposeFile": "compose.yaml", "service": "work"}`, composeFile: text}}
}

// manyTimes writes a line again and again, each with its number.
func manyTimes(n int, line string) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, line, i)
	}
	return b.String()
}

func (h hostile) and(name, text string) hostile {
	h.files = maps.Clone(h.files)
	h.files[name] = text
	return h
}

func (h hostile) fine() hostile {
	h.harmless = true
	return h
}

// collection is every kind of reaching out, by name. prize is a file of the host whose
// content must never come back.
func collection(prize string) map[string]hostile {
	all := map[string]hostile{
		"privileged":             withLine(`"privileged": true`),
		"host command":           withLine(`"initializeCommand": "id"`),
		"host commands, several": withLine(`"initializeCommand": {"a": "id", "b": ["cat", "/etc/shadow"]}`),
		"graphics":               withLine(`"hostRequirements": {"gpu": true}`),
	}
	add := func(kind string, list map[string]hostile) {
		for name, h := range list {
			all[kind+": "+name] = h
		}
	}
	for _, c := range []string{"SYS_ADMIN", "CAP_SYS_ADMIN", "sys_admin", "ALL", "NET_ADMIN", "NET_RAW", "SYS_MODULE", "SYS_RAWIO", "BPF", "DAC_READ_SEARCH", "SYS_TIME", "SYS_BOOT", "MAC_ADMIN"} {
		all["capAdd: "+c] = withLine(`"capAdd": ["` + c + `"]`)
		all["cap_add: "+c] = withService("cap_add: [" + c + "]")
	}
	for _, o := range []string{"seccomp=unconfined", "seccomp:unconfined", "seccomp=" + prize, "apparmor=unconfined", "label=disable", "systempaths=unconfined", "no-new-privileges:false"} {
		all["securityOpt: "+o] = withLine(`"securityOpt": ["` + o + `"]`)
		all["security_opt: "+o] = withService(`security_opt: ["` + o + `"]`)
	}
	for name, m := range map[string]string{"root": "type=bind,source=/,target=/host", "etc": "type=bind,source=/etc,target=/host", "engine": "type=bind,source=/var/run/docker.sock,target=/s", "proc": "type=bind,source=/proc,target=/host", "up": "type=bind,source=${localWorkspaceFolder}/../..,target=/host",
		"relative": "type=bind,source=../..,target=/host", "dots": "type=bind,source=/srv/../etc,target=/host", "volume as a path": "type=volume,source=/etc,target=/host", "volume going up": "type=volume,source=../x,target=/host", "volume with a slash": "type=volume,source=a/b,target=/host",
		"over proc": "type=tmpfs,target=/proc", "over sys": "type=volume,source=x,target=/sys/fs/cgroup", "over dev": "type=tmpfs,target=/dev", "over the agent": "type=volume,source=x,target=/opt/domicile", "over its socket": "type=tmpfs,target=/run/domicile", "over its socket by another name": "type=tmpfs,target=/var/run/domicile",
		"over the door": "type=volume,source=x,target=/run/domicile-door", "over opt": "type=tmpfs,target=/opt", "over everything": "type=tmpfs,target=/", "over everything, long": "type=tmpfs,target=/a/../"} {
		all["mounts: "+name] = withLine(`"mounts": ["` + m + `"]`)
		all["--mount: "+name] = withRunArgs("--mount", m)
	}
	add("mounts", map[string]hostile{"object": withLine(`"mounts": [{"type": "bind", "source": "/etc", "target": "/host"}]`), "npipe": withLine(`"mounts": [{"type": "npipe", "source": "x", "target": "/host"}]`), "propagation": withLine(`"mounts": ["type=bind,source=/,target=/host,bind-propagation=shared"]`),
		"volume options": withLine(`"mounts": ["type=volume,source=x,target=/host,volume-opt=type=none,volume-opt=device=/,volume-opt=o=bind"]`), "another's volume": withLine(`"mounts": ["type=volume,source=domicile-x-w1,target=/host"]`).fine()})
	add("workspaceMount", map[string]hostile{"etc": withLine(`"workspaceFolder": "/w", "workspaceMount": "type=bind,source=/etc,target=/w"`), "a volume": withLine(`"workspaceFolder": "/w", "workspaceMount": "type=volume,source=domicile-x-w1,target=/w"`),
		"up": withLine(`"workspaceFolder": "/w", "workspaceMount": "type=bind,source=${localWorkspaceFolder}/..,target=/w"`), "at proc": withLine(`"workspaceFolder": "/proc", "workspaceMount": "type=bind,source=${localWorkspaceFolder},target=/proc"`)})
	for _, args := range [][]string{{"--privileged"}, {"--privileged=true"}, {"--cap-add=SYS_ADMIN"}, {"--cap-add", "ALL"}, {"--security-opt", "seccomp=unconfined"}, {"-v", "/:/host"}, {"-v/:/host"}, {"--volume=/etc:/host:ro"}, {"-v", "~/.ssh:/host"}, {"-v", "./x:/host"}, {"--volumes-from", "x"},
		{"--device=/dev/kmsg"}, {"--device", "/dev/sda:/dev/sda:rwm"}, {"--gpus=all"}, {"--network=host"}, {"--net", "host"}, {"--network", "container:x"}, {"--network=domicile-x"}, {"--network", "bridge2"}, {"--pid=host"}, {"--pid", "container:x"}, {"--ipc=host"}, {"--ipc=container:x"}, {"--uts=host"}, {"--userns=host"}, {"--cgroupns=host"},
		{"--cgroup-parent=/"}, {"--runtime=runc2"}, {"--env-file=" + prize}, {"--env-file", "/proc/self/environ"}, {"--label-file", prize}, {"--sysctl", "kernel.core_pattern=|/x"}, {"--sysctl=vm.overcommit_memory=1"}, {"--oom-score-adj=-1000"}, {"--oom-kill-disable"}, {"--device-cgroup-rule=c *:* rwm"}, {"--blkio-weight=10"},
		{"--storage-opt", "size=1t"}, {"--log-driver=syslog"}, {"--log-opt", "max-size=1t"}, {"--ulimit", "nofile=99999999"}, {"--ulimit=rtprio=99"}, {"--pids-limit=-1"}, {"--pids-limit", "1000000"}, {"--memory=-1"}, {"--add-host", "x"}, {"--dns", "not an address"}, {"--hostname", "a b"}, {"--user", "a b"}, {"--link", "x"}, {"--entrypoint", "/x"},
		{"--ip=10.0.0.2"}, {"--mac-address=02:42:ac:11:00:02"}, {"--isolation=process"}, {"--cidfile=" + prize}, {"--mount", "type=bind,src=/,dst=/host"}, {"--tmpfs", "/run/domicile"}, {"nonsense"}, {"--unheard-of"}} {
		all["runArgs: "+strings.Join(args, " ")] = withRunArgs(args...)
	}
	for _, name := range []string{"domicile-image:aaaaaaaaaaaaaaaaaaaaaaaa", "domicile-state:x-s1-workspace", "library/domicile-state:x", "docker.io/domicile-image:x", "docker.io/library/domicile-image:x", "index.docker.io/domicile-state:x", "domicile", strings.Repeat("a", 64), "sha256:" + strings.Repeat("b", 64), "../../etc/passwd", "a b", "-x"} {
		all["image: "+name] = withImage(name)
		all["service image: "+name] = withCompose("services:\n  work: { image: BASE, command: sleep infinity }\n  other:\n    image: \"" + name + "\"\n")
		if !strings.ContainsAny(name, " ") {
			all["FROM "+name] = withDockerfile("FROM "+name+"\n", "")
			all["COPY --from="+name] = withDockerfile("FROM BASE\nCOPY --from="+name+" / /x\n", "")
			all["RUN --mount from="+name] = withDockerfile("FROM BASE\nRUN --mount=type=bind,from="+name+",target=/x true\n", "")
		}
	}
	add("build", map[string]hostile{
		"a Dockerfile above":       {files: map[string]string{definitionFile: "{\n\"build\": {\"dockerfile\": \"../../../../../../etc/passwd\"}\n}"}},
		"a Dockerfile of the host": {files: map[string]string{definitionFile: "{\n\"build\": {\"dockerfile\": \"" + prize + "\"}\n}"}},
		"a context above":          withDockerfile("FROM BASE\n", `, "context": "../../.."`),
		"a context of the host":    withDockerfile("FROM BASE\n", `, "context": "/etc"`),
		"host network":             withDockerfile("FROM BASE\n", `, "options": ["--network=host"]`),
		"a container's network":    withDockerfile("FROM BASE\n", `, "options": ["--network", "container:x"]`),
		"a secret file":            withDockerfile("FROM BASE\n", `, "options": ["--secret=id=x,src=`+prize+`"]`),
		"a secret":                 withDockerfile("FROM BASE\n", `, "options": ["--secret=id=x"]`),
		"an SSH agent":             withDockerfile("FROM BASE\n", `, "options": ["--ssh=default"]`),
		"entitlements":             withDockerfile("FROM BASE\n", `, "options": ["--allow=security.insecure"]`),
		"a label of ours":          withDockerfile("FROM BASE\n", `, "options": ["--label=domicile.installation=x"]`),
		"another context":          withDockerfile("FROM BASE\n", `, "options": ["--build-context=x=/etc"]`),
		"an output":                withDockerfile("FROM BASE\n", `, "options": ["--output=/tmp"]`),
		"a hosts entry":            withDockerfile("FROM BASE\n", `, "options": ["--add-host=nonsense"]`),
	})
	for _, reference := range []string{"./../../../etc", "../x", "/etc", "http://127.0.0.1:9/devcontainer-feature-x.tgz", "https://127.0.0.2:9/devcontainer-feature-x.tgz", "https://[::1]:9/devcontainer-feature-x.tgz", "https://169.254.169.254/devcontainer-feature-x.tgz", "10.0.0.1:5000/x/y:1", "192.168.1.1/x/y:1", "file:///etc/devcontainer-feature-x.tgz"} {
		all["feature: "+reference] = withLine(`"features": {"` + reference + `": {}}`)
	}
	for _, host := range []string{"10.0.0.1:5000", "192.168.0.1", "169.254.169.254", "127.0.0.2:5000", "[::1]:5000"} {
		all["image of "+host] = withImage(host + "/x/y:1")
	}
	// Files of the host, by every way in which a Compose file can name one.
	for name, spelled := range map[string]string{
		"extends":                    "services:\n  work:\n    extends:\n      file: PRIZE\n      service: x\n",
		"extends, in a line":         "services: { work: { extends: { file: PRIZE, service: x } } }\n",
		"extends, merged":            "x-a: &a { file: PRIZE, service: x }\nservices:\n  work:\n    extends: { <<: *a }\n",
		"extends, merged twice":      "x-a: &a { file: PRIZE }\nx-b: &b { service: x, <<: *a }\nservices:\n  work:\n    extends: { <<: [*b] }\n",
		"extends, an alias":          "x-a: &a { file: PRIZE, service: x }\nservices:\n  work:\n    extends: *a\n",
		"extends, service merged":    "x-a: &a { extends: { file: PRIZE, service: x } }\nservices:\n  work:\n    <<: *a\n    image: BASE\n",
		"extends, tagged":            "services:\n  work:\n    extends: !override { file: PRIZE, service: x }\n",
		"extends, a second document": "services: { work: { image: BASE } }\n---\nservices: { work: { extends: { file: PRIZE, service: x } } }\n",
		"extends, an empty first":    "---\n---\nservices: { work: { extends: { file: PRIZE, service: x } } }\n",
		"extends, quoted key":        "\"services\": { 'work': { \"extends\": { \"file\": \"PRIZE\", service: x } } }\n",
		"extends, escaped key":       "services: { work: { \"ext\\u0065nds\": { \"f\\u0069le\": PRIZE, service: x } } }\n",
		"extends, a variable":        "services: { work: { extends: { file: \"${PRIZE_FILE:-PRIZE}\", service: x } } }\n",
		"extends, up":                "services: { work: { extends: { file: ../../../../../../../../PRIZE, service: x } } }\n",
		"extends, elsewhere":         "services: { work: { extends: { file: \"https://127.0.0.1:9/x.yaml\", service: x } } }\n",
		"include":                    "include: [PRIZE]\nservices: { work: { image: BASE } }\n",
		"include, a path":            "include: [{ path: PRIZE }]\nservices: { work: { image: BASE } }\n",
		"include, paths":             "include: [{ path: [PRIZE] }]\nservices: { work: { image: BASE } }\n",
		"include, env_file":          "include: [{ path: part.yaml, env_file: PRIZE }]\nservices: { work: { image: \"BASE\" } }\n",
		"include, a folder":          "include: [{ path: part.yaml, project_directory: /etc }]\nservices: { work: { image: BASE } }\n",
		"include, merged":            "x-a: &a { path: PRIZE }\ninclude: [{ <<: *a }]\nservices: { work: { image: BASE } }\n",
		"include, not a list":        "include: PRIZE\nservices: { work: { image: BASE } }\n",
		"include, git":               "include: [\"git@127.0.0.1:x.git\"]\nservices: { work: { image: BASE } }\n",
		"env_file":                   "services: { work: { image: BASE, env_file: PRIZE } }\n",
		"env_file, a list":           "services: { work: { image: BASE, env_file: [PRIZE] } }\n",
		"env_file, a path":           "services: { work: { image: BASE, env_file: [{ path: PRIZE, required: false }] } }\n",
		"env_file, merged":           "x-a: &a { env_file: PRIZE }\nservices: { work: { <<: *a, image: BASE } }\n",
		"env_file, up":               "services: { work: { image: BASE, env_file: ../../../../../../../PRIZE } }\n",
		"label_file":                 "services: { work: { image: BASE, label_file: PRIZE } }\n",
		"a secret's file":            "services: { work: { image: BASE, secrets: [x] } }\nsecrets: { x: { file: PRIZE } }\n",
		"a config's file":            "services: { work: { image: BASE, configs: [x] } }\nconfigs: { x: { file: PRIZE } }\n",
		"a config's file, up":        "services: { work: { image: BASE, configs: [x] } }\nconfigs: { x: { file: ../../../../../../../PRIZE } }\n",
		"credential_spec":            "services: { work: { image: BASE, credential_spec: { file: PRIZE } } }\n",
		"an odd tag":                 "services: { work: !!binary aGk= }\n",
		"a key twice":                "services: { work: { image: BASE, image: other } }\n",
	} {
		all["compose file: "+name] = withCompose(strings.ReplaceAll(spelled, "PRIZE", prize)).and(".devcontainer/part.yaml", "services: { part: { image: BASE } }\n")
	}
	for _, attribute := range []string{"privileged: true", "privileged: yes", "network_mode: host", "network_mode: \"container:x\"", "network_mode: domicile-x", "network_mode: \"domicile-x-w1-default\"", "pid: host", "pid: \"container:x\"", "ipc: host", "ipc: \"container:x\"", "uts: host", "userns_mode: host", "cgroup: host",
		"cgroup_parent: /x", "devices: [/dev/kmsg]", "device_cgroup_rules: [\"c 1:3 mr\"]", "volumes: [\"/:/host\"]", "volumes: [\"/var/run/docker.sock:/s\"]", "volumes: [{ type: bind, source: /etc, target: /e }]", "volumes: [\"../../../..:/up\"]", "volumes: [{ type: bind, source: /, target: /x, bind: { propagation: shared } }]", "volumes: [{ type: npipe, source: x, target: /x }]",
		"volumes: [{ type: image, source: domicile-state, target: /x }]", "volumes: [\"x:/run/domicile\"]", "tmpfs: [/var/run/domicile]", "volumes_from: [other]", "volumes_from: [\"container:x\"]", "external_links: [x]", "runtime: other", "gpus: all", "sysctls: { kernel.core_pattern: x }", "ulimits: { nofile: 99999999 }", "ulimits: { rtprio: 9 }", "pids_limit: -1",
		"oom_kill_disable: true", "oom_score_adj: -1000", "storage_opt: { size: 1t }", "use_api_socket: true", "provider: { type: x }", "post_start: [{ command: id, privileged: true, user: root }]", "pre_stop: [{ command: id }]", "isolation: process", "blkio_config: { weight: 10 }", "cpu_rt_runtime: 400000", "mem_limit: -1", "restart: \"always;x\"",
		"extra_hosts: [\"x=y\"]", "dns: [nonsense]", "group_add: [\"a b\"]", "user: \"a b\"", "stop_signal: \"KILL;x\"", "container_name: \"../x\"", "working_dir: relative", "hostname: \"a b\"", "scale: 50"} {
		all["service: "+attribute] = withService(attribute)
	}
	for name, b := range map[string]string{"ssh": "ssh: [default]", "contexts": "additional_contexts: { x: /etc }", "network": "network: host", "privileged": "privileged: true", "entitlements": "entitlements: [security.insecure]", "secrets": "secrets: [x]", "inline": "dockerfile_inline: FROM domicile-state", "up": "context: ../../..", "host": "context: /etc", "hosts": "extra_hosts: [\"x=nonsense\"]", "git": "context: https://127.0.0.1:9/x.git"} {
		dots := "context: ., "
		if strings.HasPrefix(b, "context") {
			dots = ""
		}
		all["service build: "+name] = withCompose("services:\n  work:\n    build: { "+dots+b+" }\nsecrets: { x: { file: y } }\n").and(".devcontainer/Dockerfile", "FROM BASE\n").and(".devcontainer/y", "x")
	}
	add("compose", map[string]hostile{
		"services without number":   withCompose("services:\n  work: { image: BASE }\n" + manyTimes(100, "  more%d: { image: BASE }\n")),
		"networks without number":   withCompose("services:\n  work: { image: BASE }\nnetworks:\n" + manyTimes(100, "  more%d: {}\n")),
		"external network":          withCompose("services: { work: { image: BASE, networks: [x] } }\nnetworks:\n  x: { external: true, name: domicile-x-w1-default }\n"),
		"a network's options":       withCompose("services: { work: { image: BASE, networks: [x] } }\nnetworks:\n  x: { driver_opts: { com.docker.network.bridge.name: docker0 } }\n"),
		"a network's driver":        withCompose("services: { work: { image: BASE, networks: [x] } }\nnetworks:\n  x: { driver: host }\n"),
		"a network's name":          withCompose("services: { work: { image: BASE, networks: [x] } }\nnetworks:\n  x: { name: domicile-x-w1-default }\n").fine(),
		"a network of ours":         withCompose("services: { work: { image: BASE, networks: [helpers.own] } }\nnetworks: { helpers.own: {} }\n"),
		"external volume":           withCompose("services: { work: { image: BASE, volumes: [\"cargo:/x\"] } }\nvolumes:\n  cargo: { external: true }\n"),
		"a volume's options":        withCompose("services: { work: { image: BASE, volumes: [\"cargo:/x\"] } }\nvolumes:\n  cargo: { driver_opts: { type: none, o: bind, device: / } }\n"),
		"a volume's driver":         withCompose("services: { work: { image: BASE, volumes: [\"cargo:/x\"] } }\nvolumes:\n  cargo: { driver: other }\n"),
		"a volume's name":           withCompose("services: { work: { image: BASE, volumes: [\"cargo:/x\"] } }\nvolumes:\n  cargo: { name: domicile-x-w1 }\n").fine(),
		"external secret":           withCompose("services: { work: { image: BASE, secrets: [x] } }\nsecrets:\n  x: { external: true }\n"),
		"environment secret":        withCompose("services: { work: { image: BASE, secrets: [x] } }\nsecrets:\n  x: { environment: DOMICILE_DATABASE }\n"),
		"the service's environment": withCompose("services: { work: { image: BASE, environment: { X: \"${HOME:-none}\", Y: \"${DOMICILE_SETUP_CODE:-none}\" } } }\n").fine(),
		"a file above":              {files: map[string]string{definitionFile: "{\n\"dockerComposeFile\": \"../../../../../../etc/passwd\",\n\"service\": \"work\"}"}},
		"a file of the host":        {files: map[string]string{definitionFile: "{\n\"dockerComposeFile\": \"" + prize + "\",\n\"service\": \"work\"}"}},
		"a service set aside":       withCompose("services:\n  work: { image: BASE }\n  x.aside: { image: BASE }\n"),
	})
	add("variables", map[string]hostile{"environment": withLine(`"containerEnv": {"X": "${localEnv:DOMICILE_DATABASE}", "Y": "${localEnv:HOME}"}`).fine()})
	return all
}

var placed = regexp.MustCompile(`[\w./-]+:\d+`)

// Every repository of the collection is refused with its line and a remedy, or is harmless,
// before anything is made. Nothing of the host comes back.
func TestHostileRepositories(t *testing.T) {
	const secret = "the-harbour-masters-secret"
	prize := filepath.Join(t.TempDir(), "prize.yaml")
	require.NoError(t, os.WriteFile(prize, []byte("SECRET="+secret+"\nservices: { x: { image: \""+secret+"\" } }\n"), 0o644))
	all := collection(prize)
	require.Greater(t, len(all), 120)
	before := objects(t)
	t.Run("each", func(t *testing.T) {
		for i, name := range slices.Sorted(maps.Keys(all)) {
			h := all[name]
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				source := publish(t, fmt.Sprintf("hostile-%d", i), h.files[definitionFile], h.files)
				said, remedy := refusedBy(t, source)
				assert.NotContains(t, said, secret)
				assert.NotContains(t, said, "postgres://")
				switch {
				case h.harmless:
					assert.Empty(t, said)
				case assert.NotEmpty(t, said, "it was let through"):
					assert.Regexp(t, placed, said, "its line")
					assert.NotEmpty(t, remedy, said)
					toldByCheck(t, source, said)
				}
			})
		}
	})
	assert.Equal(t, before, objects(t), "nothing was made")
	t.Logf("%d repositories", len(all))
}

// toldByCheck looks that who only checks a source is told what is refused, in the same words.
func toldByCheck(t *testing.T, source, said string) {
	t.Helper()
	answer, err := client.Answer[client.CheckAnswer](finn.api.CheckSource(t.Context(), client.CheckRequest{Source: source}))
	if err != nil { // it cannot be read at all
		assert.Contains(t, said, err.Error())
		return
	}
	var report struct {
		Problems []definition.Problem `json:"problems"`
	}
	require.NoError(t, json.Unmarshal(answer.Report, &report))
	var told strings.Builder
	for _, p := range report.Problems {
		if p.Severity == definition.Error {
			fmt.Fprintln(&told, p.Message)
		}
	}
	place := regexp.MustCompile(`^(\S+:)?\d*:?\d*:? ?(error: )?`)
	for _, line := range strings.Split(strings.TrimSpace(said), "\n") {
		assert.Contains(t, told.String(), place.ReplaceAllString(line, ""))
	}
}

// refusedBy gives why a source is refused for an account that is nobody in particular, and
// what to do.
func refusedBy(t *testing.T, source string) (said, remedy string) {
	t.Helper()
	p, err := client.Answer[client.PlanAnswer](finn.api.PlanSource(t.Context(), client.CheckRequest{Source: source}))
	if err != nil {
		return err.Error(), fault.Remedy(err)
	}
	if p.Refused == nil {
		b := fmt.Sprintf("%+v", p)
		assert.NotContains(t, b, "postgres://")
		return "", ""
	}
	for _, r := range *p.Refused {
		said += r.Says + "\n"
		if r.Remedy != nil {
			remedy = *r.Remedy
		}
	}
	return said, remedy
}

// Addresses that lead into the service's host or its networks are refused in the same words,
// whether something listens there or not.
func TestHostileAddresses(t *testing.T) {
	// Something that answers on an address of this host that nobody has listed.
	l, err := net.Listen("tcp", "127.0.0.2:0")
	require.NoError(t, err)
	answering := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "<html>inside") }))
	answering.Listener = l
	answering.Start()
	defer answering.Close()
	_, port, _ := strings.Cut(l.Addr().String(), ":")
	for _, address := range []string{"file:///etc", "/etc", "/etc/passwd", "/", "../x", "ext::sh -c id", "-oProxyCommand=id", "--upload-pack=id", "ssh://-oProxyCommand=id/x", "ssh://git@-x/y", "git@-x:y", "fd::17", "http://h\nx/y", "http://user:password@h/x", "https://x@@h/y", "http:///x", "http://*/x",
		"http://127.0.0.2:" + port + "/x.git", "http://127.0.0.2:9/x.git", "http://[::1]:" + port + "/x.git", "http://0.0.0.0:" + port + "/x.git", "http://10.0.0.1/x.git", "http://172.16.0.1/x.git", "http://192.168.1.1/x.git", "http://169.254.169.254/latest/meta-data.git",
		"http://[::ffff:127.0.0.2]:" + port + "/x.git", "http://[64:ff9b::7f00:1]/x.git", "http://100.64.0.1/x.git", "git://127.0.0.2/x", "ssh://git@127.0.0.2/x.git", "git@127.0.0.2:x.git", "ssh://git@10.0.0.1:22/x"} {
		t.Run(address, func(t *testing.T) {
			said, _ := refusedBy(t, address)
			require.NotEmpty(t, said)
			said = strings.ReplaceAll(said, port, "PORT") // any number may be in it
			for _, tell := range []string{"refused", "timed out", "reset", "404", "403", "<html", "SSH-2.0", "Domicile</title>"} {
				if tell != "refused" || !strings.Contains(address, "password") {
					assert.NotContains(t, said, tell, "what answers there")
				}
			}
		})
	}
	closed, _ := refusedBy(t, "http://127.0.0.2:9/x.git")
	listening, _ := refusedBy(t, "http://127.0.0.2:"+port+"/x.git")
	assert.Equal(t, strings.ReplaceAll(listening, ":"+port, ""), strings.ReplaceAll(closed, ":9", ""), "open and closed look the same")
}
