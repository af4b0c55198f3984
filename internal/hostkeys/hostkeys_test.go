package hostkeys

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

func print(key ssh.Signer) string { return ssh.FingerprintSHA256(key.PublicKey()) }

func TestKeysAreMadeOnceAndKeptPrivate(t *testing.T) {
	folder := t.TempDir()
	first, err := Open(folder)
	require.NoError(t, err)
	second, err := Open(folder)
	require.NoError(t, err)
	assert.Equal(t, print(first.Now().Present), print(second.Now().Present))
	assert.Equal(t, first.Now().Authority.Marshal(), second.Now().Authority.Marshal())
	for _, name := range []string{presentFile, authorityFile} {
		info, err := os.Stat(filepath.Join(folder, name))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode())
	}
	require.NoError(t, os.WriteFile(filepath.Join(folder, presentFile), []byte("tide"), 0o600))
	_, err = Open(folder)
	assert.ErrorContains(t, err, presentFile)
}

// The next key is announced beside the present one, then takes its place; the authority stays, and
// vouches for both. A service that shares the folder sees it.
func TestAChangeOfKeys(t *testing.T) {
	folder := t.TempDir()
	one, err := Open(folder)
	require.NoError(t, err)
	other, err := Open(folder)
	require.NoError(t, err)
	before := one.Now()
	_, err = one.Change()
	assert.ErrorContains(t, err, "no next host key is announced")
	prepared, err := one.Prepare()
	require.NoError(t, err)
	again, err := other.Prepare()
	require.NoError(t, err)
	assert.Equal(t, print(prepared.Next), print(again.Next), "one that is there stays")
	assert.Len(t, other.Now().Announced(), 2)
	changed, err := one.Change()
	require.NoError(t, err)
	assert.Equal(t, print(prepared.Next), print(changed.Present))
	assert.NotEqual(t, print(before.Present), print(changed.Present))
	assert.Nil(t, changed.Next)
	assert.Equal(t, print(changed.Present), print(other.Now().Present))
	checker := ssh.CertChecker{IsHostAuthority: func(key ssh.PublicKey, _ string) bool {
		return string(key.Marshal()) == string(before.Authority.Marshal())
	}, Clock: time.Now}
	for _, set := range []Set{before, changed} {
		certificate := set.Certified.PublicKey().(*ssh.Certificate)
		assert.Equal(t, set.Present.PublicKey().Marshal(), certificate.Key.Marshal())
		assert.NoError(t, checker.CheckCert("fares.domicile", certificate))
	}
}

// Keys that cannot be read any more are as they were: people go on coming in.
func TestKeysThatAreGone(t *testing.T) {
	folder := t.TempDir()
	f, err := Open(folder)
	require.NoError(t, err)
	before := f.Now()
	require.NoError(t, os.Remove(filepath.Join(folder, presentFile)))
	assert.Equal(t, print(before.Present), print(f.Now().Present))
}
