package api

import (
	"unicode"
	"unicode/utf8"

	"domicile/internal/fault"
)

// What an account may keep. docs/trust.md lists all bounds.
const (
	maxTokens   = 200 // sign-ins and tokens for programs
	maxKeys     = 100
	maxSecrets  = 500
	maxGitHosts = 100
	maxLabel    = 100 // characters
	maxSource   = 2000
	maxKeyBytes = 8 << 10 // of a public key as a line; a key of 16384 bits has 3 kB
)

// roomFor returns a fault if an account has as many of something as it may have. err is that of counting them.
func roomFor[T any](list []T, err error, most int, what, remedy string) error {
	if err == nil && len(list) >= most {
		err = fault.New("full", remedy, "You have %d %s already", len(list), what)
	}
	return err
}

// checkLabel rejects a label that a list could not show.
func checkLabel(label string) error {
	if utf8.RuneCountInString(label) > maxLabel {
		return fault.New("bad-label", "give a shorter one", "The label has more than %d characters", maxLabel)
	}
	for _, r := range label {
		if !unicode.IsPrint(r) {
			return fault.New("bad-label", "give it in letters, digits, punctuation and spaces", "The label has a character that cannot be shown (%U)", r)
		}
	}
	return nil
}
