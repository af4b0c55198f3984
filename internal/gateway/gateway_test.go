package gateway

import (
	"bufio"
	"bytes"
	"errors"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/fault"
	"domicile/internal/records"
)

// A client that knows AES-GCM gets it, whatever it would rather have; one that was told to use
// another cipher gets that; and nothing is agreed on or signed with SHA-1 or DSA.
func TestWhatClientsAreOffered(t *testing.T) {
	usual := []string{ssh.CipherChaCha20Poly1305, ssh.CipherAES128CTR, ssh.CipherAES192CTR, ssh.CipherAES256CTR, ssh.CipherAES128GCM, ssh.CipherAES256GCM}
	for name, c := range map[string]struct {
		client ssh.Config
		want   string
	}{
		"OpenSSH's own order": {ssh.Config{Ciphers: usual}, ssh.CipherAES128GCM},
		"one alone":           {ssh.Config{Ciphers: usual[:1]}, ssh.CipherChaCha20Poly1305},
		"another alone":       {ssh.Config{Ciphers: []string{ssh.CipherAES256CTR}}, ssh.CipherAES256CTR},
		"GCM alone":           {ssh.Config{Ciphers: []string{ssh.CipherAES256GCM}}, ssh.CipherAES256GCM},
		"an older exchange":   {ssh.Config{KeyExchanges: []string{ssh.KeyExchangeECDHP256}}, ssh.CipherAES128GCM},
		"after quantum":       {ssh.Config{KeyExchanges: []string{ssh.KeyExchangeMLKEM768X25519}}, ssh.CipherAES128GCM},
		"SHA-1 alone":         {ssh.Config{KeyExchanges: []string{ssh.InsecureKeyExchangeDH14SHA1}}, ""},
		"too old a cipher":    {ssh.Config{Ciphers: []string{ssh.InsecureCipherTripleDESCBC}}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			key := newSigner(t)
			o := &town{t: t, key: key.PublicKey(), state: records.Ready, agent: echoing}
			got, err := o.algorithms(t, key, c.client)
			if c.want == "" {
				assert.Error(t, err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, got.Write.Cipher)
		})
	}
}

// algorithms connects to a gateway of the town, and tells what was agreed on.
func (o *town) algorithms(t *testing.T, key ssh.Signer, config ssh.Config) (ssh.NegotiatedAlgorithms, error) {
	t.Helper()
	s, at := o.serve(t)
	c, err := ssh.Dial("tcp", at, &ssh.ClientConfig{Config: config, User: "deck", Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyCallback: ssh.FixedHostKey(s.HostKeys().Present.PublicKey())})
	if err != nil {
		return ssh.NegotiatedAlgorithms{}, err
	}
	defer c.Close()
	return c.Conn.(ssh.AlgorithmsConnMetadata).Algorithms(), nil
}

// A client that says nothing that can be understood is served without knowing it.
func TestProposalsThatCannotBeRead(t *testing.T) {
	for _, said := range []string{"", "GET / HTTP/1.1\r\n\r\n", "SSH-2.0-x\r\n", "SSH-2.0-x\r\n\xff\xff\xff\xff\x00\x14", "SSH-2.0-x\r\n\x00\x00\x00\x20\x04\x14" + strings.Repeat("\x00", 12), "SSH-2.0-x\r\n\x00\x00\x00\x20\x04\x14" + strings.Repeat("\xff", 40), strings.Repeat("x", 9000)} {
		_, _, ciphers := proposed(bufio.NewReaderSize(strings.NewReader(said), maxProposal))
		assert.Nil(t, ciphers, "%.20q", said)
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

// What to do comes with the reason, where somebody knows it.
func TestWhatToDoWhereNobodyAnswers(t *testing.T) {
	assert.Equal(t, "The workspace cannot be reached: the rented instance has not called. What to do: try again in a minute.",
		explain(fault.Transient(nil, "machine-silent", "try again in a minute", "the rented instance has not called")))
	assert.Equal(t, "The workspace cannot be reached: the rope parted", explain(errors.New("the rope parted")))
}

// Clients whose rules do not allow Ed25519 get another key, certified by the same authority; nothing is signed or
// authenticated with SHA-1.
func TestOtherKindsOfHostKeys(t *testing.T) {
	key := newSigner(t)
	o := &town{t: t, key: key.PublicKey(), state: records.Ready, agent: telling}
	s, at := o.serve(t)
	dial := func(change func(*ssh.ClientConfig)) (shown ssh.PublicKey, err error) {
		config := &ssh.ClientConfig{User: "deck", Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
			shown = k
			return nil
		}}
		change(config)
		c, err := ssh.Dial("tcp", at, config)
		if err == nil {
			c.Close()
		}
		return shown, err
	}
	for _, algorithm := range []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256, ssh.KeyAlgoECDSA256} {
		shown, err := dial(func(c *ssh.ClientConfig) { c.HostKeyAlgorithms = []string{algorithm} })
		require.NoError(t, err, algorithm)
		found := false
		for _, other := range s.HostKeys().Others {
			found = found || bytes.Equal(other.Plain.PublicKey().Marshal(), shown.Marshal())
			checker := ssh.CertChecker{IsHostAuthority: func(k ssh.PublicKey, _ string) bool {
				return bytes.Equal(k.Marshal(), s.HostKeys().Authority.Marshal())
			}}
			assert.NoError(t, checker.CheckHostKey("anywhere:22", &net.TCPAddr{}, other.Certified.PublicKey()))
		}
		assert.True(t, found, algorithm)
	}
	shown, err := dial(func(c *ssh.ClientConfig) { c.HostKeyAlgorithms = []string{ssh.KeyAlgoECDSA256, ssh.KeyAlgoED25519} })
	require.NoError(t, err)
	assert.Equal(t, ssh.KeyAlgoED25519, shown.Type(), "who knows the service by it sees no other")
	_, err = dial(func(c *ssh.ClientConfig) { c.HostKeyAlgorithms = []string{ssh.KeyAlgoRSA} })
	assert.Error(t, err)
	_, err = dial(func(c *ssh.ClientConfig) {
		c.Ciphers, c.MACs = []string{ssh.CipherAES128CTR}, []string{ssh.InsecureHMACSHA196}
	})
	assert.Error(t, err)
}
