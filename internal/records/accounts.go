package records

import (
	"context"
	"time"
)

// Account is a person.
type Account struct {
	ID           int64
	Name         string
	PasswordHash string
	Admin        bool
	Created      time.Time
	Personal     string // the source of their own settings; empty: none
	AuthorName   string // of commits made in their workspaces
	AuthorMail   string
	Locked       bool // nobody signs in to it
	Leaving      bool // it is being removed, and locked meanwhile
}

const accountColumns = "accounts.id, accounts.name, accounts.password_hash, accounts.admin, accounts.created, accounts.personal, accounts.author_name, accounts.author_mail, accounts.locked, accounts.leaving"

// AddAccount makes an account. A name that is in use is ErrTaken.
func (q Queries) AddAccount(ctx context.Context, name, hash string, admin bool) (Account, error) {
	a, err := one[Account](ctx, q.db, "INSERT INTO accounts (name, password_hash, admin) VALUES ($1, $2, $3) RETURNING "+accountColumns, name, hash, admin)
	return a, taken(err)
}

// AddFirstAccount makes the administrator where there is no account yet, else ErrTaken.
func (q Queries) AddFirstAccount(ctx context.Context, name, hash string) (Account, error) {
	if _, err := q.db.Exec(ctx, "LOCK TABLE accounts IN SHARE ROW EXCLUSIVE MODE"); err != nil {
		return Account{}, err
	}
	if n, err := q.CountAccounts(ctx); err != nil {
		return Account{}, err
	} else if n > 0 {
		return Account{}, ErrTaken
	}
	return q.AddAccount(ctx, name, hash, true)
}

// CountAccounts counts the accounts.
func (q Queries) CountAccounts(ctx context.Context) (n int, err error) {
	err = q.db.QueryRow(ctx, "SELECT count(*) FROM accounts").Scan(&n)
	return n, err
}

// AccountByName finds an account.
func (q Queries) AccountByName(ctx context.Context, name string) (Account, error) {
	return one[Account](ctx, q.db, "SELECT "+accountColumns+" FROM accounts WHERE name = $1", name)
}

// AccountByID finds an account.
func (q Queries) AccountByID(ctx context.Context, id int64) (Account, error) {
	return one[Account](ctx, q.db, "SELECT "+accountColumns+" FROM accounts WHERE id = $1", id)
}

// SetPersonal keeps the source of an account's own settings.
func (q Queries) SetPersonal(ctx context.Context, id int64, source string) error {
	_, err := q.db.Exec(ctx, "UPDATE accounts SET personal = $2 WHERE id = $1", id, source)
	return err
}

// SetPassword keeps the hash of another password.
func (q Queries) SetPassword(ctx context.Context, id int64, hash string) error {
	return q.change(ctx, ErrNotFound, "UPDATE accounts SET password_hash = $2 WHERE id = $1", id, hash)
}

// SetLocked locks an account or opens it again.
func (q Queries) SetLocked(ctx context.Context, id int64, locked bool) error {
	return q.change(ctx, ErrNotFound, "UPDATE accounts SET locked = $2 WHERE id = $1 AND NOT leaving", id, locked)
}

// Leave locks an account that is to be removed.
func (q Queries) Leave(ctx context.Context, id int64) error {
	return q.change(ctx, ErrNotFound, "UPDATE accounts SET locked = true, leaving = true WHERE id = $1", id)
}

// LeavingAccounts are those that are being removed.
func (q Queries) LeavingAccounts(ctx context.Context) ([]Account, error) {
	return many[Account](ctx, q.db, "SELECT "+accountColumns+" FROM accounts WHERE leaving ORDER BY id")
}

// WorkspacesOf lists all that an account has, helpers and what it prepared among them.
func (q Queries) WorkspacesOf(ctx context.Context, account int64) ([]Workspace, error) {
	return many[Workspace](ctx, q.db, "SELECT "+workspaceColumns+" FROM workspaces WHERE account = $1 ORDER BY parent NULLS LAST, id", account)
}

// SnapshotsOfAccount lists all snapshots that an account keeps.
func (q Queries) SnapshotsOfAccount(ctx context.Context, account int64) ([]Snapshot, error) {
	return many[Snapshot](ctx, q.db, "SELECT "+snapshotColumns+" FROM snapshots WHERE account = $1 ORDER BY id", account)
}

// RemoveAccount forgets an account that has nothing left.
func (q Queries) RemoveAccount(ctx context.Context, id int64) error {
	return q.change(ctx, ErrNotFound, "DELETE FROM accounts WHERE id = $1 AND leaving", id)
}

// Locked tells which of these accounts are locked, or gone.
func (q Queries) Locked(ctx context.Context, accounts []int64) ([]int64, error) {
	type row struct{ ID int64 }
	list, err := many[row](ctx, q.db, "SELECT id FROM unnest($1::bigint[]) AS asked (id) WHERE NOT EXISTS (SELECT FROM accounts WHERE accounts.id = asked.id AND NOT locked)", accounts)
	ids := make([]int64, len(list))
	for i, r := range list {
		ids[i] = r.ID
	}
	return ids, err
}

// CountAdministrators counts those who can still sign in.
func (q Queries) CountAdministrators(ctx context.Context) (n int, err error) {
	err = q.db.QueryRow(ctx, "SELECT count(*) FROM accounts WHERE admin AND NOT locked").Scan(&n)
	return n, err
}

// SetAuthor keeps who an account's commits are by.
func (q Queries) SetAuthor(ctx context.Context, id int64, name, mail string) error {
	_, err := q.db.Exec(ctx, "UPDATE accounts SET author_name = $2, author_mail = $3 WHERE id = $1", id, name, mail)
	return err
}

// Accounts lists all accounts by name.
func (q Queries) Accounts(ctx context.Context) ([]Account, error) {
	return many[Account](ctx, q.db, "SELECT "+accountColumns+" FROM accounts ORDER BY name")
}

// Token is a token without its text.
type Token struct {
	ID       int64
	Label    string
	Created  time.Time
	LastUsed *time.Time
	Expires  time.Time
	Hash     []byte
}

// AddToken keeps the hash of a token, which counts for a while. An account keeps at most so many: those that were not
// used for longest end.
func (q Queries) AddToken(ctx context.Context, account int64, hash []byte, label string, counts time.Duration, most int) error {
	_, err := q.db.Exec(ctx, `DELETE FROM tokens WHERE account = $1 AND (expires < now()
		OR id NOT IN (SELECT id FROM tokens WHERE account = $1 ORDER BY coalesce(last_used, created) DESC, id DESC LIMIT $2 - 1))`, account, most)
	if err != nil {
		return err
	}
	_, err = q.db.Exec(ctx, "INSERT INTO tokens (account, hash, label, expires) VALUES ($1, $2, $3, now() + $4::interval)", account, hash, label, counts)
	return err
}

// RemoveTokens ends all tokens of an account but the one with this hash.
func (q Queries) RemoveTokens(ctx context.Context, account int64, but []byte) error {
	_, err := q.db.Exec(ctx, "DELETE FROM tokens WHERE account = $1 AND hash <> $2", account, but)
	return err
}

// AccountByToken finds whose token it is, while it counts and the account is not locked. It notes the use once a minute at the most.
func (q Queries) AccountByToken(ctx context.Context, hash []byte) (Account, error) {
	type row struct {
		Account
		Unnoted bool
	}
	r, err := one[row](ctx, q.db, "SELECT "+accountColumns+", tokens.last_used IS NULL OR tokens.last_used < now() - interval '1 minute' AS unnoted FROM tokens JOIN accounts ON accounts.id = tokens.account WHERE hash = $1 AND expires > now() AND NOT locked", hash)
	if err == nil && r.Unnoted {
		_, err = q.db.Exec(ctx, "UPDATE tokens SET last_used = now() WHERE hash = $1", hash)
	}
	return r.Account, err
}

// Tokens lists an account's tokens.
func (q Queries) Tokens(ctx context.Context, account int64) ([]Token, error) {
	return many[Token](ctx, q.db, "SELECT id, label, created, last_used, expires, hash FROM tokens WHERE account = $1 AND expires > now() ORDER BY id", account)
}

// RemoveToken removes one of the account's tokens.
func (q Queries) RemoveToken(ctx context.Context, account, id int64) error {
	return q.change(ctx, ErrNotFound, "DELETE FROM tokens WHERE account = $1 AND id = $2", account, id)
}

// RemoveTokenByHash ends the session of a token.
func (q Queries) RemoveTokenByHash(ctx context.Context, hash []byte) error {
	_, err := q.db.Exec(ctx, "DELETE FROM tokens WHERE hash = $1", hash)
	return err
}

// Key is an SSH public key.
type Key struct {
	ID          int64
	Account     int64
	Fingerprint string // SHA256:…
	Kind        string
	PublicKey   []byte // in the wire format of RFC 4253
	Comment     string
	Created     time.Time
}

const keyColumns = "id, account, fingerprint, kind, public_key, comment, created"

// AddKey keeps a key. One that an account has already is ErrTaken.
func (q Queries) AddKey(ctx context.Context, k Key) (Key, error) {
	k, err := one[Key](ctx, q.db, "INSERT INTO keys (account, fingerprint, kind, public_key, comment) VALUES ($1, $2, $3, $4, $5) RETURNING "+keyColumns,
		k.Account, k.Fingerprint, k.Kind, k.PublicKey, k.Comment)
	return k, taken(err)
}

// KeyByFingerprint finds a key, whoever's it is, unless that account is locked.
func (q Queries) KeyByFingerprint(ctx context.Context, fingerprint string) (Key, error) {
	return one[Key](ctx, q.db, "SELECT "+keyColumns+" FROM keys WHERE fingerprint = $1 AND EXISTS (SELECT FROM accounts WHERE accounts.id = keys.account AND NOT locked)", fingerprint)
}

// Keys lists an account's keys.
func (q Queries) Keys(ctx context.Context, account int64) ([]Key, error) {
	return many[Key](ctx, q.db, "SELECT "+keyColumns+" FROM keys WHERE account = $1 ORDER BY id", account)
}

// RemoveKey removes one of the account's keys.
func (q Queries) RemoveKey(ctx context.Context, account, id int64) error {
	return q.change(ctx, ErrNotFound, "DELETE FROM keys WHERE account = $1 AND id = $2", account, id)
}
