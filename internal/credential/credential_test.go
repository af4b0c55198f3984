package credential

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPasswords(t *testing.T) {
	hash := HashPassword("tide-and-timetable")
	assert.True(t, CheckPassword(hash, "tide-and-timetable"))
	assert.False(t, CheckPassword(hash, "tide-and-timetables"))
	assert.NotEqual(t, hash, HashPassword("tide-and-timetable"), "each has a salt of its own")
	assert.False(t, CheckPassword(NoPassword(), ""))
	for _, broken := range []string{"", "$argon2id$", "$argon2id$v=19$m=1,t=1,p=1$!$!", "$other$v=19$m=65536,t=3,p=4$AAAA$AAAA", "$argon2id$v=19$m=65536,t=3,p=4$AAAA$"} {
		assert.False(t, CheckPassword(broken, "x"), broken)
	}
}

func TestHostKeyIsMadeOnceAndKeptPrivate(t *testing.T) {
	folder := t.TempDir()
	first, err := HostKey(folder)
	require.NoError(t, err)
	second, err := HostKey(folder)
	require.NoError(t, err)
	assert.Equal(t, first.PublicKey().Marshal(), second.PublicKey().Marshal())
	info, err := os.Stat(filepath.Join(folder, "ssh_host_ed25519_key"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode())
}
