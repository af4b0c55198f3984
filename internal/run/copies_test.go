package run

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"domicile/internal/fault"
)

func TestRulesForCopies(t *testing.T) {
	for text, want := range map[string]string{"6h@this-host": "6h@this-host", "90m@quay": "1h30m@quay", "1m@q": "1m@q", "24h@this-host": "24h@this-host", "1h1m1s@q": "1h1m1s@q", "1m10s@q": "1m10s@q", "70m@q": "1h10m@q",
		"": "", "6h": "", "@quay": "", "6h@": "", "59s@quay": "", "-6h@quay": "", "6 h@quay": "", "quay@6h": ""} {
		c, err := parseCopies(text)
		if want == "" {
			assert.Equal(t, "bad-limit", fault.Code(err), text)
			assert.NotEmpty(t, fault.Remedy(err), text)
			continue
		}
		assert.NoError(t, err, text)
		assert.Equal(t, want, c.String(), text)
		again, err := parseCopies(c.String())
		assert.NoError(t, err)
		assert.Equal(t, c, again)
	}
}
