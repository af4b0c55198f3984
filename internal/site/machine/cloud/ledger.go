package cloud

import (
	"context"
	"time"
)

// Rental is an instance that was ordered, or is about to be.
type Rental struct {
	Token     string // of the order
	Site      string
	Workspace string
	Instance  string // as the provider names it; empty: its answer is not known
	Size      string
	Disk      string // the kept disk that it began with
	Mark      string
	Key       []byte // by which the instance is known since its first call
	Hour      int64  // what an hour costs, in millionths of the currency's unit
	Spent     int64  // what it has cost, as last heard
	Ordered   time.Time
	Leaving   bool       // it is given back
	Ended     *time.Time // it is gone; nil: not yet
	Why       string     // it was given back
}

// Ledger keeps what was ordered, for all replicas of the service.
type Ledger interface {
	// Order notes an order before it is made; false: one is under way for the workspace.
	Order(ctx context.Context, r Rental) (bool, error)
	// Rental is that of a workspace which is not given back.
	Rental(ctx context.Context, site, workspace string) (r Rental, found bool, err error)
	// Rentals lists those of a site that have not ended.
	Rentals(ctx context.Context, site string) ([]Rental, error)
	// ByToken finds a rental, also one that has ended.
	ByToken(ctx context.Context, token string) (r Rental, found bool, err error)
	// Place notes which instance came of an order; empty: it is not known after all. false: another
	// order has that instance.
	Place(ctx context.Context, token, instance string) (bool, error)
	// Mark keeps a mark with a rental.
	Mark(ctx context.Context, token, mark string) error
	// Admit notes the key of an instance that calls for the first time; false: it has another, or
	// is given back.
	Admit(ctx context.Context, token string, key []byte) (bool, error)
	// Leave notes that a rental is given back, and why.
	Leave(ctx context.Context, token, why string) error
	// Spend notes what a rental has cost.
	Spend(ctx context.Context, token string, spent int64) error
	// End notes that the instance of a rental is gone.
	End(ctx context.Context, token string) error
}
