package amount

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"domicile/internal/definition"
)

// What a definition calls 2gb is told as 2 GB.
func TestOf(t *testing.T) {
	for bytes, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1 << 10: "1 kB", 1<<20 - 1: "1024 kB", 7 << 20: "7 MB", 282_300_000: "269.2 MB", 2_000_000_000: "1.863 GB", 3 << 40: "3 TB"} {
		assert.Equal(t, want, Of(bytes))
	}
	for text, want := range map[string]string{"2gb": "2 GB", "512mb": "512 MB", "1tb": "1 TB"} {
		n, err := definition.ParseAmount(text)
		assert.NoError(t, err)
		assert.Equal(t, want, Of(n))
	}
}
