package vault

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/credential"
)

// A sealed text that is moved to another place in the records does not open there.
func TestWhatIsSealedOpensOnlyInItsPlace(t *testing.T) {
	seal, err := credential.OpenSeal(t.TempDir())
	require.NoError(t, err)
	secret := seal.Close(secretPurpose(1, "TIDE", "https://h/x"), "high at noon")
	opened, err := seal.Open(secretPurpose(1, "TIDE", "https://h/x"), secret)
	require.NoError(t, err)
	assert.Equal(t, "high at noon", opened)
	for name, purpose := range map[string]string{"another account": secretPurpose(2, "TIDE", "https://h/x"), "another name": secretPurpose(1, "EBB", "https://h/x"), "another source": secretPurpose(1, "TIDE", "https://h/y"), "a git host": hostPurpose(1, "h")} {
		_, err := seal.Open(purpose, secret)
		assert.ErrorIs(t, err, credential.ErrSealed, name)
	}
}
