package api

import (
	"bytes"
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/credential"
	"domicile/internal/fault"
	"domicile/internal/records"
)

func (s *Server) hashed(ctx context.Context, password string) (hash string, err error) {
	err = s.slow.Work(ctx, func() { hash = credential.HashPassword(password) })
	return hash, err
}

// SetPassword changes one's own password.
func (s *Server) SetPassword(ctx context.Context, q SetPasswordRequestObject) (SetPasswordResponseObject, error) {
	a := account(ctx)
	if err := s.proven(ctx, a, a.Name, q.Body.Current); err != nil {
		return nil, err
	}
	this, _ := ctx.Value(tokenKey).([]byte)
	return SetPassword204Response{}, s.newPassword(ctx, a, q.Body.Password, this)
}

// newPassword keeps another password and ends all tokens but one.
func (s *Server) newPassword(ctx context.Context, a records.Account, password string, but []byte) error {
	if err := checkPassword(password); err != nil {
		return err
	}
	hash, err := s.hashed(ctx, password)
	if err != nil {
		return err
	}
	return s.o.Store.InTx(ctx, func(db records.Queries, _ pgx.Tx) error {
		return errors.Join(db.SetPassword(ctx, a.ID, hash), db.RemoveTokens(ctx, a.ID, but))
	})
}

// other finds an account that an administrator does something about.
func (s *Server) other(ctx context.Context, name string) (records.Account, error) {
	if err := administrator(ctx); err != nil {
		return records.Account{}, err
	}
	a, err := s.o.Store.AccountByName(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		err = fault.New("no-account", "domicile accounts lists them", "There is no account %s", name)
	}
	return a, err
}

// ResetPassword gives an account another password.
func (s *Server) ResetPassword(ctx context.Context, q ResetPasswordRequestObject) (ResetPasswordResponseObject, error) {
	a, err := s.other(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	return ResetPassword204Response{}, s.newPassword(ctx, a, q.Body.Password, []byte{})
}

// LockAccount locks an account, or opens it again. Its tokens and keys are rejected at once, and its connections end
// within about a second (gateway.Server.Opened).
func (s *Server) LockAccount(ctx context.Context, q LockAccountRequestObject) (LockAccountResponseObject, error) {
	a, err := s.other(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	err = s.o.Store.InTx(ctx, func(db records.Queries, _ pgx.Tx) error {
		if err := db.SetLocked(ctx, a.ID, q.Body.Locked); err != nil {
			return err
		}
		return oneAdministrator(ctx, db)
	})
	return LockAccount204Response{}, err
}

// RemoveAccount removes an account with all that is its own.
func (s *Server) RemoveAccount(ctx context.Context, q RemoveAccountRequestObject) (RemoveAccountResponseObject, error) {
	a, err := s.other(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	if a.ID == account(ctx).ID {
		return nil, fault.New("own-account", "another administrator can remove it", "This is the account that you are signed in with")
	}
	err = s.o.Store.InTx(ctx, func(db records.Queries, _ pgx.Tx) error {
		return errors.Join(db.Leave(ctx, a.ID), db.RemoveTokens(ctx, a.ID, []byte{}))
	})
	return RemoveAccount204Response{}, err
}

// oneAdministrator refuses what would leave nobody who can let others in.
func oneAdministrator(ctx context.Context, db records.Queries) error {
	n, err := db.CountAdministrators(ctx)
	if err == nil && n == 0 {
		err = fault.New("last-administrator", "make another administrator first", "Nobody could open it again: it is the last administrator's account")
	}
	return err
}

// shownSignIns is how many of the last sign-ins are told.
const shownSignIns = 200

// ListSignIns lists who signed in or tried to.
func (s *Server) ListSignIns(ctx context.Context, _ ListSignInsRequestObject) (ListSignInsResponseObject, error) {
	a := account(ctx)
	of := a.ID
	if a.Admin {
		of = 0
	}
	list, err := s.o.Store.SignIns(ctx, of, shownSignIns)
	return ListSignIns200JSONResponse(each(list, func(x records.SignIn) SignIn {
		return SignIn{At: x.At, Name: x.Name, Address: x.Address, Outcome: SignInOutcome(x.Outcome)}
	})), err
}

// ListTokens lists the account's tokens.
func (s *Server) ListTokens(ctx context.Context, _ ListTokensRequestObject) (ListTokensResponseObject, error) {
	this, _ := ctx.Value(tokenKey).([]byte)
	list, err := s.o.Store.Tokens(ctx, account(ctx).ID)
	return ListTokens200JSONResponse(each(list, func(t records.Token) TokenInfo {
		return TokenInfo{Id: t.ID, Label: t.Label, Created: t.Created, LastUsed: t.LastUsed, Expires: t.Expires, Current: bytes.Equal(t.Hash, this)}
	})), err
}

// mostTokenDays bounds how long a token counts.
const mostTokenDays = 366

// AddToken makes a token for a program.
func (s *Server) AddToken(ctx context.Context, q AddTokenRequestObject) (AddTokenResponseObject, error) {
	counts := tokenLife
	if d := value(q.Body.Days); d != 0 {
		if d < 1 || d > mostTokenDays {
			return nil, fault.New("bad-days", "give 1 to 366 days", "A token cannot count for %d days", d)
		}
		counts = time.Duration(d) * 24 * time.Hour
	}
	list, err := s.o.Store.Tokens(ctx, account(ctx).ID)
	if err := roomFor(list, err, maxTokens, "tokens and sign-ins", "domicile tokens remove ID"); err != nil {
		return nil, err
	}
	made, err := s.signIn(ctx, account(ctx), q.Body.Label, counts)
	return AddToken201JSONResponse(made.Token), err
}

// RemoveToken takes a token back.
func (s *Server) RemoveToken(ctx context.Context, q RemoveTokenRequestObject) (RemoveTokenResponseObject, error) {
	return RemoveToken204Response{}, s.o.Store.RemoveToken(ctx, account(ctx).ID, q.Id)
}
