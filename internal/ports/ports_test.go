package ports

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/agent/wire"
	"domicile/internal/definition"
	"domicile/internal/plan"
)

func named(t *testing.T, text, label string) plan.Port {
	t.Helper()
	p, err := definition.ParsePort(text)
	require.NoError(t, err)
	return plan.Port{Port: p, PortAttributes: definition.PortAttributes{Label: label}}
}

func TestWhatIsNamedAndWhatListens(t *testing.T) {
	p := &plan.Plan{
		Ports: []plan.Port{named(t, "db:5432", "Database"), named(t, "8080", "Timetable"), named(t, "localhost:9000", "")},
		PortRules: definition.PortRules{
			Named:  map[string]definition.PortAttributes{"8080": {Label: "Timetable"}, "40000-40010": {Label: "Sensors"}, "node .*": {Label: "Node"}},
			Others: &definition.PortAttributes{OnAutoForward: "silent"},
		},
	}
	listens := func(network string, port int, command string) wire.Listener {
		return wire.Listener{Network: network, Port: port, Command: command}
	}
	list := Of(p, here(listens("tcp", 40003, ""), listens("udp", 8080, ""), listens("tcp", 8080, "python3"), listens("tcp", 9000, "node x"), listens("tcp", 3000, "node y"), listens("tcp", 22, "sshd")), nil)
	var got []string
	for _, x := range list {
		who := "nobody"
		if x.Listener != nil {
			who = x.Listener.Network + " " + x.Listener.Command
		}
		got = append(got, fmt.Sprintf("%s %s%s: %s", x.Port.Port, x.Label, x.OnAutoForward, who))
	}
	assert.Equal(t, []string{
		"22 silent: tcp sshd",
		"3000 Node: tcp node y",
		"8080 Timetable: tcp python3",
		"8080 : udp ",
		"localhost:9000 Node: tcp node x",
		"40003 Sensors: tcp ",
		"db:5432 Database: nobody",
	}, got)
}

func here(listeners ...wire.Listener) Listening {
	return Listening{Listeners: listeners, Known: true}
}

// What listens in services beside the workspace is told where it can be reached; of a service that is
// not looked into, a port that is named stands there and is not known.
func TestWhatListensBeside(t *testing.T) {
	p := &plan.Plan{
		Ports:     []plan.Port{named(t, "5432", "Own"), named(t, "db:5432", "Database"), named(t, "db:9", ""), named(t, "mail:25", "Mail")},
		PortRules: definition.PortRules{Named: map[string]definition.PortAttributes{"db:8008": {Label: "Watch", OnAutoForward: "notify"}}},
	}
	at := func(port int, addresses ...string) wire.Listener {
		return wire.Listener{Network: "tcp", Port: port, Addresses: addresses}
	}
	list := Of(p, here(at(5432, "127.0.0.1")), map[string]Listening{
		"db":    here(at(5432, "0.0.0.0", "::"), at(8008, "::"), at(6543, "127.0.0.1", "::1"), at(7000, "172.18.0.2")),
		"cache": here(at(6379, "0.0.0.0")),
	})
	var got []string
	for _, x := range list {
		got = append(got, fmt.Sprintf("%s %s %s listens=%v known=%v", x.Port.Port, x.Label, x.OnAutoForward, x.Listener != nil, x.Known))
	}
	assert.Equal(t, []string{
		"5432 Own  listens=true known=true",
		"cache:6379  silent listens=true known=true",
		"db:9   listens=false known=true",
		"db:5432 Database  listens=true known=true",
		"db:7000  silent listens=true known=true",
		"db:8008 Watch notify listens=true known=true",
		"mail:25 Mail  listens=false known=false",
	}, got)
}

// A plan of an earlier version has no rules.
func TestAPlanWithoutRules(t *testing.T) {
	list := Of(&plan.Plan{Ports: []plan.Port{named(t, "8080", "Timetable")}}, here(wire.Listener{Network: "tcp", Port: 8080}, wire.Listener{Network: "tcp", Port: 1}), nil)
	require.Len(t, list, 2)
	assert.Equal(t, 1, list[0].Port.Port.Number)
	assert.Equal(t, "Timetable", list[1].Label)
	assert.NotNil(t, list[1].Listener)
}
