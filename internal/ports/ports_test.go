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
	list := Of(p, []wire.Listener{listens("tcp", 40003, ""), listens("udp", 8080, ""), listens("tcp", 8080, "python3"), listens("tcp", 9000, "node x"), listens("tcp", 3000, "node y"), listens("tcp", 22, "sshd")})
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

// A plan of an earlier version has no rules.
func TestAPlanWithoutRules(t *testing.T) {
	list := Of(&plan.Plan{Ports: []plan.Port{named(t, "8080", "Timetable")}}, []wire.Listener{{Network: "tcp", Port: 8080}, {Network: "tcp", Port: 1}})
	require.Len(t, list, 2)
	assert.Equal(t, 1, list[0].Port.Port.Number)
	assert.Equal(t, "Timetable", list[1].Label)
	assert.NotNil(t, list[1].Listener)
}
