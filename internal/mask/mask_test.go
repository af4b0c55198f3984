package mask

import (
	"encoding/base64"
	"encoding/hex"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSecretsAreMaskedInAllTheirForms(t *testing.T) {
	const secret = "lamp/oil & wick+7"
	m := New(secret)
	std := base64.StdEncoding
	for name, text := range map[string]string{
		"as it is": "the token is lamp/oil & wick+7.", "percent": "?t=" + url.QueryEscape(secret), "hex": hex.EncodeToString([]byte(secret)), "HEX": strings.ToUpper(hex.EncodeToString([]byte(secret))),
		"base64": std.EncodeToString([]byte(secret)), "base64 behind one": std.EncodeToString([]byte("x" + secret + "y")), "base64 behind two": std.EncodeToString([]byte("git:" + secret)),
		"json": `{"t":"lamp/oil \u0026 wick+7"}`,
	} {
		masked := m.Line(text)
		assert.Contains(t, masked, Shown, name)
		assert.NotContains(t, masked, "wick", name)
	}
	assert.Equal(t, "nothing here", m.Line("nothing here"))
	assert.Equal(t, "abc", New("abc").Line("abc"), "too short to mask")
	assert.Equal(t, Shown+" and more", New("-----BEGIN\nline-of-a-key\n-----END").Line("line-of-a-key and more"))
}

// However a secret is surrounded, it is not in what comes out.
func FuzzMask(f *testing.F) {
	f.Add("lantern-oil", "before", "after")
	f.Add("aaaaaaaaa", "a", "aa")
	f.Fuzz(func(t *testing.T, secret, before, after string) {
		if len(secret) < Shortest || strings.Contains(Shown, secret) {
			return
		}
		m := New(secret)
		if masked := m.Line(before + secret + after); !strings.Contains(masked, Shown) {
			t.Fatalf("%q is not masked in %q", secret, masked)
		}
		text := base64.StdEncoding.EncodeToString([]byte(before + secret + after))
		if masked := m.Line(text); len(secret) >= 9 && !strings.Contains(masked, Shown) {
			t.Fatalf("the base64 of %q is not masked in %q", secret, masked)
		}
	})
}
