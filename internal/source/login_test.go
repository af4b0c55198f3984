package source

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"domicile/internal/fault"
)

func TestATokenIsForTheRepositoryAndItsNeighbours(t *testing.T) {
	l := &Login{Username: "ada", Token: "t0ken-of-ada"}
	for address, scope := range map[string]string{
		"https://git.skerry.test/skerry/tides.git":       "https://git.skerry.test/skerry/",
		"https://git.skerry.test/tides.git":              "https://git.skerry.test/tides.git",
		"http://127.0.0.1:3000/a/b/c":                    "http://127.0.0.1:3000/a/b/",
		"https://somebody@git.skerry.test/skerry/x.git/": "https://git.skerry.test/skerry/",
	} {
		env, done, err := l.open(&Fetcher{Folder: t.TempDir()}, Address{Git: address})
		require.NoError(t, err)
		done()
		assert.Contains(t, env, "GIT_CONFIG_KEY_0=http."+scope+".extraHeader", address)
		assert.Contains(t, strings.Join(env, " "), "YWRhOnQwa2VuLW9mLWFkYQ==")
		assert.Contains(t, env, "GIT_CONFIG_VALUE_1=false", "no redirection is followed with it")
	}
	for _, address := range []string{"ssh://git@git.skerry.test/x.git", "git@git.skerry.test:x.git"} {
		env, _, err := l.open(&Fetcher{Folder: t.TempDir()}, Address{Git: address})
		require.NoError(t, err)
		assert.Empty(t, env, "a token is not for SSH")
	}
	var nobody *Login
	env, _, err := nobody.open(&Fetcher{Folder: t.TempDir()}, Address{Git: "https://git.skerry.test/x.git"})
	require.NoError(t, err)
	assert.Empty(t, env)
}

func key(t *testing.T) string {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	return string(pem.EncodeToMemory(block))
}

// A key is served from memory, for the repository's host only, and is gone afterwards.
func TestAKeyIsServedFromMemory(t *testing.T) {
	l := &Login{Key: key(t)}
	env, done, err := l.open(&Fetcher{Folder: t.TempDir()}, Address{Git: "git@git.skerry.test:skerry/tides.git"})
	require.NoError(t, err)
	require.Len(t, env, 1)
	_, rest, found := strings.Cut(env[0], "-F ")
	require.True(t, found)
	config, _, _ := strings.Cut(rest, " ")
	text, err := os.ReadFile(config)
	require.NoError(t, err)
	assert.Contains(t, string(text), "Host git.skerry.test\n")
	assert.Contains(t, string(text), "Host *\n  IdentityAgent none")
	conn, err := net.Dial("unix", filepath.Join(filepath.Dir(config), "agent.sock"))
	require.NoError(t, err)
	keys, err := agent.NewClient(conn).List()
	require.NoError(t, err)
	assert.Len(t, keys, 1)
	conn.Close()
	entries, err := os.ReadDir(filepath.Dir(config))
	require.NoError(t, err)
	assert.Len(t, entries, 2, "a socket and settings, no key")
	done()
	assert.NoFileExists(t, config)
}

func TestWhatIsNoKey(t *testing.T) {
	assert.NoError(t, CheckKey(key(t)))
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte("wick"))
	require.NoError(t, err)
	assert.ErrorContains(t, CheckKey(string(pem.EncodeToMemory(block))), "passphrase")
	assert.Equal(t, "bad-key", fault.Code(CheckKey("ssh-ed25519 AAAA")))
}

func TestHosts(t *testing.T) {
	for address, host := range map[string]string{"https://git.skerry.test/x.git": "git.skerry.test", "http://127.0.0.1:3000/x": "127.0.0.1:3000", "git@git.skerry.test:x.git": "git.skerry.test", "ssh://git@h:22/x": "h:22", "/srv/x": ""} {
		a, err := Parse(address)
		require.NoError(t, err)
		assert.Equal(t, host, a.Host(), address)
	}
}

// Who wants the same commit shares one checkout, and a moved branch is another one.
func TestSharedCheckouts(t *testing.T) {
	f := &Fetcher{Folder: t.TempDir()}
	for i := range sharedKept + 2 {
		name := filepath.Join(f.Folder, "checkouts", sharedPrefix+string(rune('a'+i)))
		require.NoError(t, os.MkdirAll(name, 0o755))
	}
	require.NoError(t, f.dropShared(filepath.Join(f.Folder, "checkouts")))
	entries, err := os.ReadDir(filepath.Join(f.Folder, "checkouts"))
	require.NoError(t, err)
	assert.Len(t, entries, sharedKept+2, "those that were used lately stay")
	old := entries[0].Name()
	past := mustStat(t, filepath.Join(f.Folder, "checkouts", old)).ModTime().Add(-2 * sharedFor)
	require.NoError(t, os.Chtimes(filepath.Join(f.Folder, "checkouts", old), past, past))
	require.NoError(t, f.dropShared(filepath.Join(f.Folder, "checkouts")))
	assert.NoDirExists(t, filepath.Join(f.Folder, "checkouts", old))
}

func mustStat(t *testing.T, name string) os.FileInfo {
	t.Helper()
	info, err := os.Stat(name)
	require.NoError(t, err)
	return info
}
