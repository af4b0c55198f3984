package agent

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLookupAccount(t *testing.T) {
	root, err := lookupAccount("root")
	require.NoError(t, err)
	assert.Equal(t, 0, root.uid)
	assert.Equal(t, "/root", root.home)
	byNumber, err := lookupAccount("0")
	require.NoError(t, err)
	assert.Equal(t, root, byNumber)
	unlisted, err := lookupAccount("54321:7")
	require.NoError(t, err)
	assert.Equal(t, &account{name: "54321", uid: 54321, gid: 7, home: "/", shell: "/bin/sh", groups: []uint32{7}}, unlisted)
	_, err = lookupAccount("stowaway")
	assert.ErrorContains(t, err, `no user "stowaway"`)
	_, err = lookupAccount("root:stowaways")
	assert.ErrorContains(t, err, `no group "stowaways"`)
}

func TestEnvironment(t *testing.T) {
	env := environment([]string{"A=1", "B=x=y", "EMPTY=", "=odd", "none"})
	assert.Equal(t, map[string]string{"A": "1", "B": "x=y", "EMPTY": ""}, env)
	p := &person{env: env}
	assert.Equal(t, []string{"A=2", "B=x=y", "C=3", "EMPTY="}, p.with(map[string]string{"A": "2", "C": "3"}))
	assert.Equal(t, "1", p.env["A"], "what a session adds stays its own")
}

func TestFoldersOfFeaturesStayInPath(t *testing.T) {
	assert.Equal(t, "/opt/tide/bin:/usr/local/bin:/usr/bin", joinPath("/opt/tide/bin:/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin", "/usr/local/bin:/usr/bin", 1000))
	assert.Equal(t, "/sbin:/usr/bin", joinPath("/usr/bin:/sbin", "/usr/bin", 0), "the superuser has them")
	assert.Equal(t, "/home/crew/bin:/usr/bin", joinPath("/usr/bin", "/home/crew/bin:/usr/bin", 1000), "what the shell says stays")
}
