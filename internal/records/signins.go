package records

import (
	"context"
	"time"
)

// The outcomes of a sign-in.
const (
	SignedIn      = "in"
	WrongPassword = "wrong"
	SlowedDown    = "slowed"
	AccountLocked = "locked"
)

// SignIn is somebody who signed in, or tried to.
type SignIn struct {
	At      time.Time
	Name    string // as it was typed
	Address string
	Outcome string
}

// NoteSignIn notes that somebody signed in or tried to.
func (q Queries) NoteSignIn(ctx context.Context, s SignIn) error {
	_, err := q.db.Exec(ctx, "INSERT INTO sign_ins (name, account, address, outcome) VALUES ($1, (SELECT id FROM accounts WHERE accounts.name = $1), $2, $3)", s.Name, s.Address, s.Outcome)
	return err
}

// SignIns lists the last ones, newest first: an account's, or all where account is 0.
func (q Queries) SignIns(ctx context.Context, account int64, most int) ([]SignIn, error) {
	return many[SignIn](ctx, q.db, "SELECT at, name, address, outcome FROM sign_ins WHERE $1 = 0 OR account = $1 ORDER BY id DESC LIMIT $2", account, most)
}
