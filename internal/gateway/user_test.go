package gateway

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhichUserANameHas(t *testing.T) {
	for name, c := range map[string]struct{ workspace, user string }{
		"fares":          {"fares", ""},
		"fares.mate":     {"fares.mate", ""},
		"fares+root":     {"fares", "root"},
		"mate+ann.lee":   {"mate", "ann.lee"},
		"fares+_apt":     {"fares", "_apt"},
		"fares+www-data": {"fares", "www-data"},
	} {
		workspace, user, err := SplitUser(name)
		assert.NoError(t, err, name)
		assert.Equal(t, c.workspace, workspace, name)
		assert.Equal(t, c.user, user, name)
	}
	for _, name := range []string{"fares+", "fares+0", "fares+-x", "fares+root:root", "fares+root+root", "fares+../x", "fares+a b", "fares+a\x1b", "fares+aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"} {
		_, _, err := SplitUser(name)
		assert.ErrorContains(t, err, "is no name of a user", name)
	}
}
