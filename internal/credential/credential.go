// Package credential makes and checks what people and programs prove themselves with:
// passwords, tokens, and the service's own keys in files that only it may read.
package credential

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"strings"
	"sync"

	"golang.org/x/crypto/argon2"
)

// The costs of argon2id (RFC 9106, section 4, second choice).
const (
	passes   = 3
	memory   = 64 << 10 // KiB
	lanes    = 4
	hashSize = 32
)

// MinPassword is the least number of bytes of a password.
const MinPassword = 12

// HashPassword makes a salted argon2id hash that carries its own costs.
func HashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails
	hash := argon2.IDKey([]byte(password), salt, passes, memory, lanes, hashSize)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, memory, passes, lanes,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(hash))
}

// CheckPassword tells whether the hash was made from the password.
func CheckPassword(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	var m, t uint32
	var p uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || len(want) == 0 {
		return false
	}
	got := argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1
}

// NoPassword is a hash that no password has; checking against it takes as long as against
// any other, so that an unknown name cannot be told by the time of the answer.
var NoPassword = sync.OnceValue(func() string { return HashPassword(NewToken()) })

// NewToken makes a token that cannot be guessed.
func NewToken() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b) // never fails
	return "dom_" + base64.RawURLEncoding.EncodeToString(b)
}

// HashToken is what is kept of a token. It is long and random, so a plain hash will do.
func HashToken(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// NewName makes a short random name for an installation.
func NewName() string {
	b := make([]byte, 4)
	_, _ = rand.Read(b) // never fails
	return hex.EncodeToString(b)
}
