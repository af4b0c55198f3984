package engine

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatKeepsNetworksApart(t *testing.T) {
	const whole = `-P FORWARD DROP
-N DOCKER-ISOLATION-STAGE-1
-A FORWARD -j DOCKER-USER
-A FORWARD -j DOCKER-ISOLATION-STAGE-1
-A DOCKER-ISOLATION-STAGE-1 -i br-1 ! -o br-1 -j DOCKER-ISOLATION-STAGE-2
-A DOCKER-ISOLATION-STAGE-1 -i br-2 ! -o br-2 -j DOCKER-ISOLATION-STAGE-2
-A DOCKER-ISOLATION-STAGE-2 -o br-1 -j DROP
-A DOCKER-ISOLATION-STAGE-2 -o br-2 -j DROP
`
	both := []string{"br-1", "br-2"}
	assert.Empty(t, keptApart(whole, both))
	for _, line := range strings.Split(strings.TrimSpace(whole), "\n")[3:] {
		assert.NotEmpty(t, keptApart(strings.Replace(whole, line+"\n", "", 1), both), "without %s", line)
	}
	assert.NotEmpty(t, keptApart("", both), "another engine has cleared it")
	assert.Empty(t, keptApart("-A FORWARD -j DOCKER-FORWARD\n", both), "a newer engine")
}
