package records

import "context"

// Credential is the token or SSH key by which a client signed in to an account. Connections that a client opened end
// when its credential ends.
type Credential struct {
	Account int64
	Token   string // the hash of a token, as bytes; empty: not by a token
	Key     string // the fingerprint of an SSH key; empty: not by a key
}

// Ended returns those credentials that no longer count: the account is locked or removed, the token was revoked
// or has expired, the key was removed.
func (q Queries) Ended(ctx context.Context, credentials []Credential) ([]Credential, error) {
	accounts, tokens, keys := make([]int64, len(credentials)), make([][]byte, len(credentials)), make([]string, len(credentials))
	for i, c := range credentials {
		accounts[i], tokens[i], keys[i] = c.Account, []byte(c.Token), c.Key
	}
	type row struct{ N int }
	list, err := many[row](ctx, q.db, `SELECT n::int - 1 AS n FROM unnest($1::bigint[], $2::bytea[], $3::text[]) WITH ORDINALITY AS c (account, token, key, n)
		WHERE NOT EXISTS (SELECT FROM accounts a WHERE a.id = c.account AND NOT a.locked)
		OR c.token <> '' AND NOT EXISTS (SELECT FROM tokens t WHERE t.hash = c.token AND t.account = c.account AND t.expires > now())
		OR c.key <> '' AND NOT EXISTS (SELECT FROM keys k WHERE k.fingerprint = c.key AND k.account = c.account)`, accounts, tokens, keys)
	ended := make([]Credential, len(list))
	for i, r := range list {
		ended[i] = credentials[r.N]
	}
	return ended, err
}
