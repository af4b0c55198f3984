package usher

import (
	"crypto/ed25519"
	"crypto/rand"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"domicile/internal/agent/wire"
)

// A person's keys are lent by key, and nothing but a signature is to be had.
func TestLentKeys(t *testing.T) {
	c := newCabin(t, "fares")
	var own []ssh.PublicKey
	for _, name := range []string{"deck", "bridge"} {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		require.NoError(t, err)
		require.NoError(t, c.keys.Add(agent.AddedKey{PrivateKey: key, Comment: name}))
		signer, err := ssh.NewSignerFromKey(key)
		require.NoError(t, err)
		own = append(own, signer.PublicKey())
	}
	come := func() agent.ExtendedAgent {
		channel, err := c.visit("fares", wire.KeysVisit)
		require.NoError(t, err)
		t.Cleanup(func() { channel.Close() })
		return agent.NewClient(channel)
	}
	names := func(list []*agent.Key, err error) (names []string) {
		require.NoError(t, err)
		for _, k := range list {
			names = append(names, k.Comment)
		}
		return names
	}
	inside := come()
	listed := make(chan []string, 1)
	go func() { listed <- names(inside.List()) }()
	q := <-c.asked
	assert.Equal(t, "wants to use the 2 keys of your SSH agent", q.Text)
	c.decide(Decision{Workspace: "fares", Kind: Keys, Subject: ssh.FingerprintSHA256(own[0]), Answer: Always})
	c.decide(Decision{Workspace: "fares", Answer: Later, Number: q.Number})
	assert.Empty(t, <-listed)
	assert.Equal(t, []string{"deck"}, names(inside.List()))
	signature, err := inside.Sign(own[0], []byte("a log"))
	require.NoError(t, err)
	assert.NoError(t, own[0].Verify([]byte("a log"), signature))

	c.decide(Decision{Workspace: "fares", Kind: Keys, Subject: ssh.FingerprintSHA256(own[1]), Answer: Each})
	assert.Equal(t, []string{"deck", "bridge"}, names(inside.List()))
	for answer, ok := range map[Answer]bool{Once: true, Later: false} {
		signed := make(chan error, 1)
		go func() { _, err := inside.Sign(own[1], []byte("a log")); signed <- err }()
		q := <-c.asked
		assert.Equal(t, "wants a signature with your key "+ssh.FingerprintSHA256(own[1])+", under 5 bytes that do not say what they are for (SHA256:", q.Text[:len(q.Text)-17], "each time")
		c.decide(Decision{Workspace: "fares", Answer: answer, Number: q.Number})
		assert.Equal(t, ok, (<-signed) == nil, answer)
	}
	assert.Error(t, inside.RemoveAll())
	assert.Error(t, inside.Remove(own[0]))
	assert.Error(t, inside.Lock([]byte("x")))
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	assert.Error(t, inside.Add(agent.AddedKey{PrivateKey: key}))
	assert.Len(t, names(c.keys.List()), 2)

	channel, err := c.visit("fares", wire.KeysVisit)
	require.NoError(t, err)
	_, err = channel.Write([]byte{0x00, 0xff, 0xff, 0xff, 13})
	require.NoError(t, err)
	_, err = io.ReadAll(channel)
	require.NoError(t, err, "it is ended before it is read")
	assert.Contains(t, <-c.said, "a message of 16777215 bytes")
}
