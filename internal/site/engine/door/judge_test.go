package door

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/mount"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var own = &Door{Labels: map[string]string{"domicile.workspace": "w1"}, Workspace: "w1", Prefix: "mine-d-", Source: "mine"}

func TestWhatAHelperMayHave(t *testing.T) {
	q, err := own.judge([]byte(`{"Image": "a", "Cmd": ["true"], "Labels": {"team": "deck"}, "HostConfig": {"Binds": ["kept:/k:ro"], "Mounts": [{"Type": "volume", "Source": "source", "Target": "/s"}, {"Type": "tmpfs", "Target": "/t"}],
		"Memory": 1000, "NetworkMode": "default", "AutoRemove": true, "RestartPolicy": {"Name": "no"}, "PortBindings": {}, "CapAdd": null, "Privileged": false, "OomKillDisable": false, "LogConfig": {"Type": "", "Config": {}}},
		"NetworkingConfig": {"EndpointsConfig": {"default": {"Aliases": ["cache"]}}}}`))
	require.NoError(t, err)
	assert.Equal(t, []string{"cache"}, q.aliases)
	require.Len(t, q.HostConfig.Mounts, 3)
	assert.Equal(t, "mine-d-v-kept", q.HostConfig.Mounts[0].Source)
	assert.True(t, q.HostConfig.Mounts[0].ReadOnly)
	assert.Equal(t, "w1", q.HostConfig.Mounts[0].VolumeOptions.Labels[Label])
	assert.Equal(t, "mine", q.HostConfig.Mounts[1].Source)
	assert.EqualValues(t, 1000, q.HostConfig.Memory)
	assert.True(t, q.HostConfig.AutoRemove)
	assert.Empty(t, q.HostConfig.NetworkMode)
}

func TestWhatAHelperMayNotHave(t *testing.T) {
	for config, says := range map[string]string{
		`"Privileged": true`:                                          "Privileged is not given",
		`"Binds": ["/etc:/e"]`:                                        "would reach the host",
		`"Binds": ["../x:/e"]`:                                        "would reach the host",
		`"Binds": ["v:/e:shared"]`:                                    "option",
		`"CapAdd": ["SYS_ADMIN"]`:                                     "CapAdd",
		`"MaskedPaths": []`:                                           "hidden paths",
		`"ReadonlyPaths": []`:                                         "hidden paths",
		`"NetworkMode": "host"`:                                       `network "host"`,
		`"PidMode": "host"`:                                           "PidMode",
		`"Devices": [{"PathOnHost": "/dev/kvm"}]`:                     "Devices",
		`"DeviceCgroupRules": ["c *:* rwm"]`:                          "DeviceCgroupRules",
		`"VolumeDriver": "x"`:                                         "VolumeDriver",
		`"Sysctls": {"kernel.x": "1"}`:                                "Sysctls",
		`"SomethingNew": {"a": 1}`:                                    "unknown field",
		`"Mounts": [{"Type": "bind", "Source": "/", "Target": "/h"}]`: "would reach the host",
		`"Mounts": [{"Type": "volume", "Source": "v", "Target": "/h", "VolumeOptions": {"DriverConfig": {"Name": "local", "Options": {"device": "/"}}}}]`: "no driver of its own",
	} {
		_, err := own.judge([]byte(`{"Image": "a", "HostConfig": {` + config + `}}`))
		assert.ErrorContains(t, err, says, config)
	}
	for body, says := range map[string]string{`{"Image": "a", "MacAddress": "02:42:ac:11:00:02"}`: "MacAddress is not given", `{"Image": "a"} {"Image": "b"}`: "cannot be judged", `{"Image": "a", "OnBuild": ["RUN x"]}`: "OnBuild", `{`: "cannot be judged", `{}`: "names no image", `{"Image": "a", "Labels": {"domicile.workspace": "w2"}}`: "Domicile's own", `{"Image": "a", "NetworkingConfig": {"EndpointsConfig": {"other": {}}}}`: `network "other"`} {
		_, err := own.judge([]byte(body))
		assert.ErrorContains(t, err, says, body)
	}
}

// Whatever is asked: what comes through has nothing of the host.
func FuzzJudge(f *testing.F) {
	f.Add(`{"Image": "a", "HostConfig": {"Binds": ["v:/x"], "Privileged": false}}`)
	f.Add(`{"Image": "a", "HostConfig": {"Mounts": [{"Type": "volume", "Source": "source", "Target": "/s"}], "NetworkMode": "container:x"}}`)
	f.Add(`{"Image": "a", "hostconfig": {"privileged": true, "binds": ["/:/h"]}, "HostConfig": {}}`)
	f.Fuzz(func(t *testing.T, body string) {
		q, err := own.judge([]byte(body))
		if err != nil {
			return
		}
		h := q.HostConfig
		if h.Privileged || len(h.CapAdd)+len(h.Binds)+len(h.Devices)+len(h.SecurityOpt)+len(h.VolumesFrom)+len(h.PortBindings)+len(h.Links)+len(h.Sysctls)+len(h.DeviceRequests) > 0 ||
			h.PidMode != "" || h.IpcMode != "" || h.UTSMode != "" || h.UsernsMode != "" || h.CgroupnsMode != "" || h.Cgroup != "" || h.CgroupParent != "" || h.Runtime != "" || h.MaskedPaths != nil || h.ReadonlyPaths != nil ||
			h.NetworkMode != "" && h.NetworkMode != container.NetworkMode("none") {
			b, _ := json.Marshal(h)
			t.Fatalf("%s gives %s", body, b)
		}
		for _, m := range h.Mounts {
			if m.Type != mount.TypeTmpfs && (m.Type != mount.TypeVolume || m.Source != "" && m.Source != own.Source && !strings.HasPrefix(m.Source, own.Prefix)) {
				t.Fatalf("%s mounts %s %q", body, m.Type, m.Source)
			}
		}
	})
}
