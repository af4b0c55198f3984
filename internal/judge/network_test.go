package judge

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNetworksOfAWorkspace(t *testing.T) {
	for name, c := range map[string]struct {
		ask     func(j *Judge, v string)
		good    []string
		refused []string
	}{
		"network":    {func(j *Judge, v string) { j.Network("x.yaml:3", v) }, []string{"", "none", "bridge"}, []string{"host", "container:abc", "domicile-x", "service:", "service:db", "workspace", ".", "default"}},
		"network of": {func(j *Judge, v string) { j.NetworkOf("x.yaml:3", v) }, []string{"", "db", WorkspaceItself}, []string{"../x", "a b", "db.own", "container:abc", ".."}},
		"subnet":     {func(j *Judge, v string) { j.Subnet("x.yaml:3", v) }, []string{"172.30.1.0/24", "10.9.0.0/16", "192.168.7.0/29", "fd00:1::/64"}, []string{"", "10.0.0.0/8", "0.0.0.0/0", "8.8.8.0/24", "169.254.0.0/16", "127.0.0.0/16", "172.30.1.1/24", "172.30.1.0", "2001:db8::/64", "fd00::/16", "172.0.0.0/10"}},
		"mac":        {func(j *Judge, v string) { j.MAC("x.yaml:3", v) }, []string{"", "02:42:ac:11:00:02"}, []string{"01:42:ac:11:00:02", "ff:ff:ff:ff:ff:ff", "02-42-ac-11-00-02", "02:42:ac:11:00", "x"}},
		"domain":     {func(j *Judge, v string) { j.SearchDomain("x.yaml:3", v) }, []string{".", "skerry.test", "a", "_x.test"}, []string{"", "a b", "a\nnameserver 1.1.1.1", "-x", "x..y"}},
	} {
		for _, v := range c.good {
			j := New(Subject{})
			c.ask(j, v)
			assert.NoError(t, j.Err(), "%s %q", name, v)
		}
		for _, v := range c.refused {
			j := New(Subject{})
			c.ask(j, v)
			assert.ErrorContains(t, j.Err(), "x.yaml:3", "%s %q", name, v)
		}
	}
}
