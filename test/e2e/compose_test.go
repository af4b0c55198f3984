package e2e

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// composed is a Compose file whose two services, the workspace's own and one beside it, ask
// for the same.
const composed = `
x-all: &all
  image: BASE
  command: sleep infinity
  init: true
  cap_add: [MKNOD]
  cap_drop: [CHOWN]
  shm_size: 32mb
  extra_hosts: ["lighthouse:192.0.2.7"]
  ulimits: { nproc: 777, nofile: { soft: 500, hard: 600 } }
  mem_limit: 256mb
  pids_limit: 300
  sysctls: { net.ipv4.ip_unprivileged_port_start: "81" }
  dns: [192.0.2.53]
  dns_search: [skerry.test]
  group_add: ["4321"]
  stop_signal: SIGINT
  environment: { TIDE: flood }
  tmpfs: ["/spray:size=3m"]
  volumes:
    - ..:/whole
    - ../src:/part
    - ../..:/far:cached
    - { type: tmpfs, target: /foam, tmpfs: { size: 2097152 } }
    - kept:/kept
  configs: [{ source: rates, target: /etc/rates.json }]
  secrets: [key]
services:
  work:
    <<: *all
    hostname: bridge
    links: ["store:database"]
    networks: { deep: { ipv4_address: 10.213.7.10, mac_address: "02:42:0a:d5:07:0a" } }
  store:
    <<: *all
    hostname: hold
    networks: { deep: { ipv4_address: 10.213.7.20 } }
    post_start: [{ command: [sh, -c, "echo $$KIND > /started"], environment: { KIND: hooked } }]
  beside: { image: BASE, init: true, command: sleep infinity, network_mode: "service:work" }
  behind: { image: BASE, init: true, command: sleep infinity, network_mode: "service:store" }
  alone: { image: BASE, init: true, command: sleep infinity, network_mode: bridge }
  chosen: { image: BASE, init: true, command: sleep infinity, profiles: [some] }
  unchosen: { image: BASE, init: true, command: sleep infinity, profiles: [others] }
networks:
  deep: { ipam: { config: [{ subnet: 10.213.7.0/24 }] } }
volumes: { kept: {} }
configs: { rates: { file: ../src/rates.json } }
secrets: { key: { file: ../src/key } }
`

// What Compose files say of a service is so inside, whichever service it is.
func TestWhatComposeFilesSayIsSoInside(t *testing.T) {
	source := publish(t, "composed", `{"dockerComposeFile": "compose.yaml", "service": "work", "workspaceFolder": "/whole", "remoteUser": "root", "overrideCommand": false}`, map[string]string{
		".devcontainer/compose.yaml": composed, ".devcontainer/.env": "COMPOSE_PROFILES=some\n", "src/rates.json": "[1]", "src/key": "k"})
	a := skipper.provision(t, source, "composed")
	require.Equal(t, 0, a.status, a.err)
	services := map[string]string{}
	out, err := engineSays(t, "ps", "--filter", "label=domicile.workspace", "--format", `{{.Label "domicile.service"}} {{.Names}}`)
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(out), "\n") {
		if name, container, _ := strings.Cut(line, " "); name != "" {
			services[name] = container
		}
	}
	assert.Contains(t, services, "chosen", ".env makes its profile active")
	assert.NotContains(t, services, "unchosen")
	within := map[string]func(line string) string{
		"work": func(line string) string { return skipper.inside(t, "composed", line) },
		"store": func(line string) string {
			out, err := engineSays(t, "exec", services["store"], "sh", "-c", line)
			require.NoError(t, err, out)
			return strings.TrimSpace(out)
		},
	}
	const status = "/proc/1/status"
	for name, c := range map[string]struct{ line, want string }{
		"cap_add":           {`printf '%d' $(( 0x$(awk '/CapBnd/{print $2}' ` + status + `) >> 27 & 1 ))`, "1"},
		"cap_drop":          {`printf '%d' $(( 0x$(awk '/CapBnd/{print $2}' ` + status + `) & 1 ))`, "0"},
		"shm_size":          {"df -k /dev/shm | awk 'NR==2{print $2}'", "32768"},
		"extra_hosts":       {"getent ahostsv4 lighthouse | awk 'NR==1{print $1}'", "192.0.2.7"},
		"ulimits":           {"awk '/Max processes/{print $3} /Max open files/{print $4, $5}' /proc/1/limits | paste -sd' '", "777 500 600"},
		"sysctls":           {"cat /proc/sys/net/ipv4/ip_unprivileged_port_start", "81"},
		"dns_search":        {"grep ^search /etc/resolv.conf", "search skerry.test"},
		"group_add":         {"awk '/^Groups/' " + status + " | grep -wo 4321", "4321"},
		"environment":       {"echo $TIDE", "flood"},
		"tmpfs":             {"df -k /spray | awk 'NR==2{print $2}'", "3072"},
		"a tmpfs volume":    {"df -k /foam | awk 'NR==2{print $2}'", "2048"},
		"the source":        {"cat /whole/src/key", "k"},
		"a part of it":      {"cat /part/rates.json", "[1]"},
		"the source's own":  {"ls /far", "composed"},
		"below its name":    {"cat /far/composed/src/key", "k"},
		"a volume":          {"grep -c ' /kept ' /proc/mounts", "1"},
		"configs":           {"cat /etc/rates.json", "[1]"},
		"secrets":           {"cat /run/secrets/key", "k"},
		"the other by name": {"getent ahostsv4 store >/dev/null && getent ahostsv4 work > /dev/null && echo both", "both"},
	} {
		for service, inside := range within {
			assert.Equal(t, c.want, inside(c.line), "%s of %s", name, service)
		}
	}
	assert.Equal(t, "bridge", within["work"]("hostname"))
	assert.Equal(t, "hold", within["store"]("hostname"))
	assert.Equal(t, "10.213.7.10 02:42:0a:d5:07:0a", within["work"]("echo $(hostname -I) $(cat /sys/class/net/eth0/address)"))
	assert.Equal(t, "10.213.7.20", within["store"]("hostname -I | tr -d ' '"))
	assert.Equal(t, "10.213.7.20", within["work"]("getent ahostsv4 database | awk 'NR==1{print $1}'"), "a link's name")
	assert.Equal(t, "hooked", within["store"]("cat /started"), "post_start")
	within["work"]("echo 2 > /part/rates.json")
	assert.Equal(t, "2", within["store"]("cat /whole/src/rates.json"), "a part is the source itself")
	for service, hostname := range map[string]string{"beside": "bridge", "behind": "hold"} {
		out, err := engineSays(t, "exec", services[service], "cat", "/proc/sys/kernel/hostname")
		require.NoError(t, err, out)
		assert.Equal(t, hostname, strings.TrimSpace(out), "on the network of another")
	}
	inspected := func(what, format string) string {
		out, err := engineSays(t, "inspect", "-f", format, what)
		require.NoError(t, err)
		return strings.TrimSpace(out)
	}
	own, err := engineSays(t, "ps", "-q", "--filter", "name=^/"+strings.TrimSuffix(services["store"], "-store")+"$")
	require.NoError(t, err)
	for _, container := range []string{strings.TrimSpace(own), services["store"]} {
		assert.Equal(t, "268435456 300 SIGINT", inspected(container, "{{.HostConfig.Memory}} {{.HostConfig.PidsLimit}} {{.Config.StopSignal}}"))
	}
	assert.NotContains(t, inspected(services["alone"], "{{json .NetworkSettings.Networks}}"), `"bridge"`, "all workspaces would meet there")

	// Started again, it is as it was.
	require.Equal(t, 0, skipper.domicile(t, "stop", "composed").status)
	require.Equal(t, 0, skipper.domicile(t, "start", "composed").status)
	assert.Equal(t, "2", within["work"]("cat /part/rates.json"))
	assert.Equal(t, "bridge", inspectedHost(t, services["beside"]))
}

func inspectedHost(t *testing.T, container string) string {
	t.Helper()
	out, err := engineSays(t, "exec", container, "cat", "/proc/sys/kernel/hostname")
	require.NoError(t, err, out)
	return strings.TrimSpace(out)
}

// A command of post_start that fails is told, and is not taken for done the next time; one
// that says much is heard to its end.
func TestAPostStartThatFails(t *testing.T) {
	compose := func(command string) map[string]string {
		return map[string]string{".devcontainer/compose.yaml": "services:\n  work: { image: BASE, init: true, command: sleep infinity, volumes: ['..:/src'] }\n  lamp:\n    image: BASE\n    init: true\n    command: sleep infinity\n    post_start: [{ command: [sh, -c, '" + command + "'] }]\n"}
	}
	const definition = `{"dockerComposeFile": "compose.yaml", "service": "work", "workspaceFolder": "/src", "remoteUser": "crew"}`
	source := publish(t, "hooked", definition, compose("yes wick | head -100000; echo no oil >&2; exit 3"))
	for range 2 {
		a := skipper.provision(t, source, "hooked")
		assert.Equal(t, 1, a.status)
		assert.Contains(t, a.err, "a command of post_start ended with exit status 3: sh -c yes wick")
	}
	publish(t, "hooked", definition, compose("yes wick | head -100000; echo lit > /lit"))
	a := skipper.provision(t, source, "hooked")
	require.Equal(t, 0, a.status, a.err)
	lamp, err := engineSays(t, "ps", "-q", "--filter", "label=domicile.service=lamp")
	require.NoError(t, err)
	out, err := engineSays(t, "exec", strings.TrimSpace(lamp), "cat", "/lit")
	require.NoError(t, err, out)
	assert.Equal(t, "lit", strings.TrimSpace(out))
}
