package agent

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Of tasks that have ended only the newest are kept: they would fill the memory of a
// workspace that lives for months.
func TestEndedTasksAreForgotten(t *testing.T) {
	server := &Server{tasks: map[string]*task{}}
	for i := range 3 * endedTasks {
		key := fmt.Sprint(i)
		server.tasks[key] = &task{}
		if i%2 == 0 {
			server.forgetTasks(key)
		}
	}
	assert.Len(t, server.tasks, endedTasks+3*endedTasks/2, "all that run, and some that have ended")
	assert.Contains(t, server.tasks, fmt.Sprint(3*endedTasks-2), "the newest")
	assert.NotContains(t, server.tasks, "0")
	assert.Contains(t, server.tasks, "1", "it still runs")
}
