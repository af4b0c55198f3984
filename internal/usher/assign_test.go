package usher

import (
	"domicile/internal/client"
	"fmt"
	"github.com/stretchr/testify/require"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhichPortIsWhere(t *testing.T) {
	timetable := Want{Workspace: "timetable", Target: "localhost:8080", Port: 8080}
	fares := Want{Workspace: "fares", Target: "localhost:8080", Port: 8080}
	exact := Want{Workspace: "quayboard", Target: "localhost:8080", Port: 8080, Exact: true}
	database := Want{Workspace: "fares", Target: "db:5432", Port: 5432}
	web := Want{Workspace: "fares", Target: "localhost:80", Port: 80}
	last := Want{Workspace: "fares", Target: "localhost:65535", Port: 65535}
	for name, c := range map[string]struct {
		wants        []Want
		held, before map[string]int
		taken        []int // by other programs
		want         map[string]int
		refused      map[string]Taken
	}{
		"the same number":                  {wants: []Want{timetable, database}, want: map[string]int{timetable.key(): 8080, database.key(): 5432}},
		"taken by another program":         {wants: []Want{timetable}, taken: []int{8080, 9080}, want: map[string]int{timetable.key(): 10080}},
		"two workspaces with one":          {wants: []Want{timetable, fares}, want: map[string]int{fares.key(): 8080, timetable.key(): 9080}},
		"who has it keeps it":              {wants: []Want{timetable, fares}, held: map[string]int{timetable.key(): 8080}, want: map[string]int{timetable.key(): 8080, fares.key(): 9080}},
		"it comes back to where it was":    {wants: []Want{timetable}, before: map[string]int{timetable.key(): 9080}, taken: []int{8080}, want: map[string]int{timetable.key(): 9080}},
		"its own number is better":         {wants: []Want{timetable}, before: map[string]int{timetable.key(): 9080}, want: map[string]int{timetable.key(): 8080}},
		"who had it has it again":          {wants: []Want{timetable, fares}, before: map[string]int{fares.key(): 9080}, want: map[string]int{timetable.key(): 8080, fares.key(): 9080}},
		"no other will do":                 {wants: []Want{fares, exact}, want: map[string]int{exact.key(): 8080, fares.key(): 9080}},
		"no other will do, and it is gone": {wants: []Want{fares, exact}, held: map[string]int{fares.key(): 8080}, want: map[string]int{fares.key(): 8080}, refused: map[string]Taken{exact.key(): {Port: 8080, By: "fares"}}},
		"no other will do, but has one":    {wants: []Want{exact}, held: map[string]int{exact.key(): 9080}, want: map[string]int{exact.key(): 8080}},
		"another program has it":           {wants: []Want{exact}, taken: []int{8080}, want: map[string]int{}, refused: map[string]Taken{exact.key(): {Port: 8080}}},
		"one that is root's":               {wants: []Want{web}, taken: []int{80}, want: map[string]int{web.key(): 8080}},
		"nothing above":                    {wants: []Want{last}, taken: []int{65535}, want: map[string]int{}, refused: map[string]Taken{last.key(): {Port: 65535}}},
	} {
		t.Run(name, func(t *testing.T) {
			got, refused := assign(c.wants, c.held, c.before, func(_ Want, port int) bool { return !slices.Contains(c.taken, port) })
			assert.Equal(t, c.want, got)
			if c.refused == nil {
				c.refused = map[string]Taken{}
			}
			assert.Equal(t, c.refused, refused)
		})
	}
}

// However many there are, no number is given twice, and nobody who has one loses it.
func TestManyPortsAtOnce(t *testing.T) {
	var wants []Want
	for w := range 10 {
		for p := range 50 {
			wants = append(wants, Want{Workspace: fmt.Sprint("w", w), Target: fmt.Sprint("localhost:", 3000+p), Port: 3000 + p})
		}
	}
	first, refused := assign(wants[:250], nil, nil, func(Want, int) bool { return true })
	assert.Empty(t, refused)
	all, refused := assign(wants, first, nil, func(Want, int) bool { return true })
	assert.Empty(t, refused)
	seen := map[int]bool{}
	for key, port := range all {
		assert.False(t, seen[port], "port %d is given twice", port)
		seen[port] = true
		if had, has := first[key]; has {
			assert.Equal(t, had, port)
		}
	}
	assert.Len(t, seen, 500)
}

// A program of a workspace does not get the clients of a server that people run on their own machine.
func TestPortsOfUsualServersAreElsewhere(t *testing.T) {
	db := "db"
	for _, c := range []struct {
		port client.Port
		want []int
	}{
		{client.Port{Port: "5432", Listener: &client.Listener{Network: client.Tcp}}, []int{6432, 7432}},
		{client.Port{Port: "22", Listener: &client.Listener{Network: client.Tcp}}, []int{8022, 1022}},
		{client.Port{Port: "5432", From: &db, Listener: &client.Listener{Network: client.Tcp}}, []int{5432, 6432}},
		{client.Port{Port: "5432", RequireLocalPort: new(true), Listener: &client.Listener{Network: client.Tcp}}, []int{5432}},
		{client.Port{Port: "8080", Listener: &client.Listener{Network: client.Tcp}}, []int{8080, 9080}},
	} {
		w, ok := wanted("quayboard", c.port)
		require.True(t, ok)
		assert.Equal(t, c.want, choices(w, 0)[:len(c.want)], c.port.Port)
	}
}
