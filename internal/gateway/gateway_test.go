package gateway

import (
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/records"
)

func TestCiphersByTheClientsVersion(t *testing.T) {
	cases := map[string]bool{ // AES-GCM alone
		"SSH-2.0-OpenSSH_9.2p1 Debian-2\r\n": true,
		"SSH-2.0-OpenSSH_6.2\r\n":            true,
		"SSH-2.0-OpenSSH_6.1\r\n":            false,
		"SSH-2.0-Go\r\n":                     false,
		"GET / HTTP/1.1\r\n":                 false,
	}
	for line, alone := range cases {
		near, far := net.Pipe()
		go func() { _, _ = far.Write([]byte(line + "rest")) }()
		config := &ssh.ServerConfig{}
		conn := chooseCiphers(near, config)
		assert.Equal(t, alone, len(config.Ciphers) == 2, line)
		assert.Equal(t, ssh.CipherAES128GCM, config.Ciphers[0])
		b := make([]byte, len(line))
		_, err := conn.Read(b)
		require.NoError(t, err)
		assert.Equal(t, line, string(b), "what was looked at is still to be read")
	}
}

func TestWhyAWorkspaceCannotBeUsed(t *testing.T) {
	assert.NoError(t, usable(records.Workspace{State: records.Ready}))
	for state, says := range map[string]string{
		records.Stopped: "domicile start deck", records.Failed: "the mast broke", records.Lost: "the mast broke", records.Making: "domicile follow deck",
	} {
		err := usable(records.Workspace{Name: "deck", State: state, Reason: "the mast broke"})
		assert.ErrorContains(t, err, says)
		assert.Equal(t, err.Error(), explain(err), "it is meant for the person")
	}
}

func TestOurOwnRequestsDoNotPass(t *testing.T) {
	assert.True(t, ours("configure@domicile"))
	assert.False(t, ours("tcpip-forward"))
	assert.False(t, ours("streamlocal-forward@openssh.com"))
}
