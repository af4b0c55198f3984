package api

import (
	"cmp"
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"regexp"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/crypto/ssh"

	"domicile/internal/credential"
	"domicile/internal/fault"
	"domicile/internal/records"
	"domicile/internal/source"
	"domicile/internal/visible"
)

var accountName = regexp.MustCompile(`^[a-z][a-z0-9._-]{0,39}$`)

func checkNewAccount(name, password string) error {
	if !accountName.MatchString(name) {
		return fault.New("bad-name", "use lower-case letters, digits, dots, hyphens and underscores, a letter first, at most 40", "%q cannot be an account's name", name)
	}
	return checkPassword(password)
}

func checkPassword(password string) error {
	switch {
	case len(password) < credential.MinPassword:
		return fault.New("short-password", "take a longer one, such as a sentence", "The password has fewer than %d characters", credential.MinPassword)
	case len(password) > maxPassword:
		return fault.New("long-password", "take a shorter one", "The password has more than %d characters", maxPassword)
	}
	return nil
}

// maxPassword bounds what is hashed.
const maxPassword = 1024

// proven checks a password of an account, at the pace that its earlier tries allow, and
// notes how it went.
func (s *Server) proven(ctx context.Context, a records.Account, typed, password string) error {
	from := address(ctx)
	note := func(outcome string) error {
		name := visible.Text(typed[:min(len(typed), maxTyped)]) // it may be anything
		return s.o.Store.NoteSignIn(ctx, records.SignIn{Name: name, Address: from, Outcome: outcome})
	}
	wait, end, err := s.slow.Begin(ctx, typed, from)
	if err != nil {
		return err
	}
	if wait > 0 {
		if s.slow.TellsAgain(from) {
			if err := note(records.SlowedDown); err != nil {
				return err
			}
		}
		return fault.New("slowed-down", fmt.Sprintf("try again in %s", wait.Round(time.Second)+time.Second), "There were too many wrong passwords")
	}
	defer end()
	hash := a.PasswordHash
	if hash == "" {
		hash = credential.NoPassword()
	}
	ok := false
	if err := s.slow.Work(ctx, func() { ok = credential.CheckPassword(hash, password) }); err != nil {
		return err
	}
	outcome := records.SignedIn
	switch {
	case !ok:
		outcome = records.WrongPassword
	case a.Locked:
		outcome, ok = records.AccountLocked, false
	}
	s.slow.Ended(typed, from, ok)
	if err := note(outcome); err != nil {
		return err
	}
	if !ok { // the same for an unknown name and a locked account
		return fault.New("wrong-password", "try again; an administrator can make you an account, or give it another password", "Name and password do not fit together")
	}
	return nil
}

// maxTyped bounds what is noted of a name that somebody typed.
const maxTyped = 64

// GetSetup tells whether the first account is still to be made.
func (s *Server) GetSetup(ctx context.Context, _ GetSetupRequestObject) (GetSetupResponseObject, error) {
	n, err := s.o.Store.CountAccounts(ctx)
	return GetSetup200JSONResponse{Needed: n == 0}, err
}

// MakeFirstAccount makes the administrator's account.
func (s *Server) MakeFirstAccount(ctx context.Context, q MakeFirstAccountRequestObject) (MakeFirstAccountResponseObject, error) {
	if err := s.provenSetup(ctx, q.Body.Code); err != nil {
		return nil, err
	}
	if err := checkNewAccount(q.Body.Name, q.Body.Password); err != nil {
		return nil, err
	}
	hash, err := s.hashed(ctx, q.Body.Password)
	if err != nil {
		return nil, err
	}
	var a records.Account
	err = s.o.Store.InTx(ctx, func(db records.Queries, _ pgx.Tx) (err error) {
		a, err = db.AddFirstAccount(ctx, q.Body.Name, hash)
		return err
	})
	if errors.Is(err, records.ErrTaken) {
		err = errSetupDone
	}
	if err != nil {
		return nil, err
	}
	return s.signIn(ctx, a, "console", cookieLife)
}

var errSetupDone = fault.New("setup-done", "sign in with it", "The first account is made already")

// provenSetup checks the code for the first account. Wrong codes count apart from wrong passwords, and after the
// set-up no code is looked at.
func (s *Server) provenSetup(ctx context.Context, code string) error {
	if n, err := s.o.Store.CountAccounts(ctx); err != nil || n > 0 {
		return cmp.Or(err, error(errSetupDone))
	}
	wait, end, err := s.setups.Begin(ctx, "", address(ctx))
	if err != nil {
		return err
	}
	if wait > 0 {
		return fault.New("slowed-down", fmt.Sprintf("try again in %s", wait.Round(time.Second)+time.Second), "There were too many wrong codes")
	}
	defer end()
	ok := subtle.ConstantTimeCompare([]byte(code), []byte(s.o.SetupCode)) == 1
	s.setups.Ended("", address(ctx), ok)
	if !ok {
		return fault.New("wrong-code", "take it from the link that the service printed at its start", "The code is not the one that the service printed")
	}
	return nil
}

// SignIn checks name and password.
func (s *Server) SignIn(ctx context.Context, q SignInRequestObject) (SignInResponseObject, error) {
	if err := checkLabel(value(q.Body.Label)); err != nil {
		return nil, err
	}
	var a records.Account
	if accountName.MatchString(q.Body.Name) { // no account has another
		var err error
		if a, err = s.o.Store.AccountByName(ctx, q.Body.Name); err != nil && !errors.Is(err, records.ErrNotFound) {
			return nil, err
		}
	}
	if err := s.proven(ctx, a, q.Body.Name, q.Body.Password); err != nil {
		return nil, err
	}
	label := value(q.Body.Label)
	if label == "" {
		label = "console"
	}
	return s.signIn(ctx, a, label, cookieLife)
}

func (s *Server) signIn(ctx context.Context, a records.Account, label string, counts time.Duration) (signedIn, error) {
	if err := checkLabel(label); err != nil {
		return signedIn{}, err
	}
	token := credential.NewToken()
	err := s.o.Store.AddToken(ctx, a.ID, credential.HashToken(token), label, counts, maxTokens)
	overTLS, _ := ctx.Value(secureKey).(bool)
	return signedIn{Token: Token{Token: token, Account: accountView(a)}, secure: overTLS}, err
}

// SignOut ends the token that the request came with.
func (s *Server) SignOut(ctx context.Context, _ SignOutRequestObject) (SignOutResponseObject, error) {
	hash, _ := ctx.Value(tokenKey).([]byte)
	return SignOut204Response{}, s.o.Store.RemoveTokenByHash(ctx, hash)
}

// GetAccount answers whose request it is.
func (s *Server) GetAccount(ctx context.Context, _ GetAccountRequestObject) (GetAccountResponseObject, error) {
	return GetAccount200JSONResponse(accountView(account(ctx))), nil
}

func administrator(ctx context.Context) error {
	if !account(ctx).Admin {
		return fault.New("not-administrator", "ask an administrator", "Only an administrator may do this")
	}
	return nil
}

// ListAccounts lists all accounts.
func (s *Server) ListAccounts(ctx context.Context, _ ListAccountsRequestObject) (ListAccountsResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	list, err := s.o.Store.Accounts(ctx)
	return ListAccounts200JSONResponse(each(list, accountView)), err
}

// AddAccount makes another account.
func (s *Server) AddAccount(ctx context.Context, q AddAccountRequestObject) (AddAccountResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	if err := checkNewAccount(q.Body.Name, q.Body.Password); err != nil {
		return nil, err
	}
	hash, err := s.hashed(ctx, q.Body.Password)
	if err != nil {
		return nil, err
	}
	a, err := s.o.Store.AddAccount(ctx, q.Body.Name, hash, false)
	if errors.Is(err, records.ErrTaken) {
		err = fault.New("name-taken", "choose another name", "There is an account %s already", q.Body.Name)
	}
	return AddAccount201JSONResponse(accountView(a)), err
}

// ListKeys lists the account's SSH keys.
func (s *Server) ListKeys(ctx context.Context, _ ListKeysRequestObject) (ListKeysResponseObject, error) {
	list, err := s.o.Store.Keys(ctx, account(ctx).ID)
	return ListKeys200JSONResponse(each(list, keyView)), err
}

// minRSA is the least size of an RSA key, in bits.
const minRSA = 2048

// AddKey adds an SSH public key.
func (s *Server) AddKey(ctx context.Context, q AddKeyRequestObject) (AddKeyResponseObject, error) {
	if len(q.Body.PublicKey) > maxKeyBytes {
		return nil, fault.New("bad-key", "give the content of one file such as ~/.ssh/id_ed25519.pub", "The text has more than %d bytes", maxKeyBytes)
	}
	key, comment, _, _, err := ssh.ParseAuthorizedKey([]byte(q.Body.PublicKey))
	if err != nil {
		return nil, fault.New("bad-key", "give the content of a file such as ~/.ssh/id_ed25519.pub, one line that begins with ssh-ed25519, ecdsa-… or ssh-rsa",
			"The text is no SSH public key")
	}
	if bits := rsaBits(key); bits > 0 && bits < minRSA {
		return nil, fault.New("weak-key", "make one with ssh-keygen -t ed25519", "The RSA key has %d bits; %d at least are wanted", bits, minRSA)
	}
	list, err := s.o.Store.Keys(ctx, account(ctx).ID)
	if err := roomFor(list, err, maxKeys, "SSH keys", "domicile keys remove ID"); err != nil {
		return nil, err
	}
	comment = visible.Line(comment, maxLabel)
	k, err := s.o.Store.AddKey(ctx, records.Key{Account: account(ctx).ID, Fingerprint: ssh.FingerprintSHA256(key), Kind: key.Type(), PublicKey: key.Marshal(), Comment: comment})
	if errors.Is(err, records.ErrTaken) {
		err = fault.New("key-taken", "a key belongs to one account; make another with ssh-keygen -t ed25519", "An account has the key %s already", ssh.FingerprintSHA256(key))
	}
	return AddKey201JSONResponse(keyView(k)), err
}

func rsaBits(key ssh.PublicKey) int {
	crypto, ok := key.(ssh.CryptoPublicKey)
	if !ok {
		return 0
	}
	rsa, ok := crypto.CryptoPublicKey().(interface{ Size() int })
	if !ok || key.Type() != ssh.KeyAlgoRSA {
		return 0
	}
	return rsa.Size() * 8
}

// RemoveKey removes an SSH key.
func (s *Server) RemoveKey(ctx context.Context, q RemoveKeyRequestObject) (RemoveKeyResponseObject, error) {
	return RemoveKey204Response{}, s.o.Store.RemoveKey(ctx, account(ctx).ID, q.Id)
}

func accountView(a records.Account) Account {
	return Account{Id: a.ID, Name: a.Name, Admin: a.Admin, Locked: a.Locked, Personal: optional(a.Personal), AuthorName: optional(a.AuthorName), AuthorMail: optional(a.AuthorMail)}
}

func keyView(k records.Key) Key {
	return Key{Id: k.ID, Fingerprint: k.Fingerprint, Kind: k.Kind, Comment: k.Comment, Created: k.Created}
}

// each turns a list into its view; an empty one stays a list.
func each[From, To any](list []From, view func(From) To) []To {
	out := make([]To, 0, len(list))
	for _, x := range list {
		out = append(out, view(x))
	}
	return out
}

// SetPersonal keeps the source of the account's own settings.
func (s *Server) SetPersonal(ctx context.Context, q SetPersonalRequestObject) (SetPersonalResponseObject, error) {
	text := q.Body.Source
	if text != "" {
		address, err := source.Parse(text)
		if err != nil {
			return nil, err
		}
		text = address.String()
	}
	return SetPersonal204Response{}, s.o.Store.SetPersonal(ctx, account(ctx).ID, text)
}
