package credential

import (
	"testing"

	"github.com/stretchr/testify/assert"
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
