package records

import (
	"context"
	"time"
)

// Who may use a web address.
const (
	WebPrivate = "private" // the owner
	WebTeam    = "team"    // who has an account
	WebLink    = "link"    // whoever has the link, for a time
)

// WebAddress is a host name below the service's domain, for one port of one workspace.
type WebAddress struct {
	ID        int64
	Workspace int64
	Account   int64
	Port      string // as the workspace has it: 8080 or db:5432
	Label     string // the first part of the host name
	Protocol  string // http or https, as it is spoken inside
	// ForcedProtocol is what the owner says against the definition; empty: Protocol is the definition's.
	ForcedProtocol string
	Sharing        string
	Turn           int // counts changes of the sharing
	Link           []byte
	Until          *time.Time
	Password       string // hashed; empty: none
	Local          bool   // the program insists on being called localhost
	Created        time.Time
}

const webColumns = "id, workspace, account, port, label, coalesce(nullif(forced_protocol, ''), protocol) AS protocol, forced_protocol, sharing, turn, link, until, password, local, created"

// AddWebAddress makes an address of a port, or finds the one that there is. Where the workspace has
// as many as it may have it is ErrNotFound.
func (q Queries) AddWebAddress(ctx context.Context, a WebAddress, most int) (WebAddress, error) {
	return one[WebAddress](ctx, q.db, `INSERT INTO web_addresses (workspace, account, port, label, protocol)
		SELECT $1, $2, $3, $4, $5 WHERE (SELECT count(*) FROM web_addresses WHERE workspace = $1 AND port <> $3) < $6
		ON CONFLICT (workspace, port) DO UPDATE SET protocol = $5 RETURNING `+webColumns, a.Workspace, a.Account, a.Port, a.Label, a.Protocol, most)
}

// WebAddresses lists those of a workspace.
func (q Queries) WebAddresses(ctx context.Context, workspace int64) ([]WebAddress, error) {
	return many[WebAddress](ctx, q.db, "SELECT "+webColumns+" FROM web_addresses WHERE workspace = $1 ORDER BY id", workspace)
}

// WebAddress finds the one of a port.
func (q Queries) WebAddress(ctx context.Context, workspace int64, port string) (WebAddress, error) {
	return one[WebAddress](ctx, q.db, "SELECT "+webColumns+" FROM web_addresses WHERE workspace = $1 AND port = $2", workspace, port)
}

// WebAddressByLabel finds the one that a host name means.
func (q Queries) WebAddressByLabel(ctx context.Context, label string) (WebAddress, error) {
	return one[WebAddress](ctx, q.db, "SELECT "+webColumns+" FROM web_addresses WHERE label = $1", label)
}

// ShareWebAddress changes who may use an address, and notes who changed it; the last 200 changes
// stay. Whoever came in before is out.
func (q Queries) ShareWebAddress(ctx context.Context, a WebAddress, by int64, what string) error {
	return q.change(ctx, ErrNotFound, `WITH old AS (DELETE FROM web_changes WHERE address = $1 AND id NOT IN (SELECT id FROM web_changes WHERE address = $1 ORDER BY id DESC LIMIT 199)),
		noted AS (INSERT INTO web_changes (address, account, what) SELECT $1, $2, $3 WHERE EXISTS (SELECT 1 FROM web_addresses WHERE id = $1))
		UPDATE web_addresses SET sharing = $4, link = $5, until = $6, password = $7, local = $8, forced_protocol = $9, turn = turn + 1 WHERE id = $1`, a.ID, by, what, a.Sharing, a.Link, a.Until, a.Password, a.Local, a.ForcedProtocol)
}

// RemoveWebAddress takes an address away.
func (q Queries) RemoveWebAddress(ctx context.Context, id int64) error {
	return q.change(ctx, ErrNotFound, "DELETE FROM web_addresses WHERE id = $1", id)
}

// WebChange is a change of who may use an address.
type WebChange struct {
	At   time.Time
	By   string // empty: the account is gone
	What string
}

// WebChanges lists the changes of an address, newest first.
func (q Queries) WebChanges(ctx context.Context, address int64, most int) ([]WebChange, error) {
	return many[WebChange](ctx, q.db, "SELECT c.at, coalesce(a.name, '') AS by, c.what FROM web_changes c LEFT JOIN accounts a ON a.id = c.account WHERE c.address = $1 ORDER BY c.id DESC LIMIT $2", address, most)
}

// AddWebTicket keeps the hash of a ticket, whose holder may come in once, by somebody's credential.
func (q Queries) AddWebTicket(ctx context.Context, hash []byte, address int64, by Credential, until time.Time) error {
	_, err := q.db.Exec(ctx, "WITH old AS (DELETE FROM web_tickets WHERE until < now()) INSERT INTO web_tickets (hash, address, account, token, until) VALUES ($1, $2, $3, $4, $5)", hash, address, by.Account, []byte(by.Token), until)
	return err
}

// TakeWebTicket returns whose a ticket of an address is. A ticket counts once.
func (q Queries) TakeWebTicket(ctx context.Context, hash []byte, address int64) (by Credential, err error) {
	type row struct {
		Account int64
		Token   []byte
	}
	r, err := one[row](ctx, q.db, "DELETE FROM web_tickets WHERE hash = $1 AND address = $2 AND until > now() RETURNING account, token", hash, address)
	return Credential{Account: r.Account, Token: string(r.Token)}, err
}
