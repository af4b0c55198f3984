package agent

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What else a file of names has stays as it was.
func TestNamesOfHelpers(t *testing.T) {
	file := filepath.Join(t.TempDir(), "hosts")
	require.NoError(t, os.WriteFile(file, []byte("127.0.0.1 localhost\n10.0.0.9 quay # the crew's"), 0o644))
	read := func() string {
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		return string(b)
	}
	const own = "127.0.0.1 localhost\n10.0.0.9 quay # the crew's\n"
	for range 2 {
		require.NoError(t, nameHosts(file, map[string]string{"mate": "172.18.0.2", "cook": "fd00::2"}))
		assert.Equal(t, own+"fd00::2\tcook # a helper of this workspace\n172.18.0.2\tmate # a helper of this workspace\n", read())
	}
	require.NoError(t, nameHosts(file, map[string]string{"mate": "172.18.0.3"}))
	assert.Equal(t, own+"172.18.0.3\tmate # a helper of this workspace\n", read(), "what was named before is gone")
	for name, address := range map[string]string{"two words": "10.0.0.1", "line\n": "10.0.0.1", "mate": "not an address", "": "10.0.0.1"} {
		assert.Error(t, nameHosts(file, map[string]string{name: address}))
	}
	require.NoError(t, nameHosts(file, nil))
	assert.Equal(t, own, read())
}
