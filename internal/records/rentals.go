package records

import (
	"context"
	"errors"
	"time"
)

// Rental is an instance that was ordered at a provider, or is about to be.
type Rental struct {
	Token     string // of the order
	Site      string
	Workspace string // as its site names it
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

const rentalColumns = "token, site, workspace, instance, size, disk, mark, key, hour, spent, ordered, leaving, ended, why"

// AddRental notes an order before it is made; ErrTaken: one is under way for the workspace.
func (q Queries) AddRental(ctx context.Context, r Rental) error {
	_, err := q.db.Exec(ctx, "INSERT INTO rentals (token, site, workspace, size, disk, hour, ordered) VALUES ($1, $2, $3, $4, $5, $6, $7)", r.Token, r.Site, r.Workspace, r.Size, r.Disk, r.Hour, r.Ordered)
	return taken(err)
}

// Rental finds that of a workspace which is not given back.
func (q Queries) Rental(ctx context.Context, site, workspace string) (Rental, error) {
	return one[Rental](ctx, q.db, "SELECT "+rentalColumns+" FROM rentals WHERE site = $1 AND workspace = $2 AND NOT leaving", site, workspace)
}

// RentalByToken finds a rental, also one that has ended.
func (q Queries) RentalByToken(ctx context.Context, token string) (Rental, error) {
	return one[Rental](ctx, q.db, "SELECT "+rentalColumns+" FROM rentals WHERE token = $1", token)
}

// Rentals lists those of a site that have not ended.
func (q Queries) Rentals(ctx context.Context, site string) ([]Rental, error) {
	return many[Rental](ctx, q.db, "SELECT "+rentalColumns+" FROM rentals WHERE site = $1 AND ended IS NULL ORDER BY ordered, token", site)
}

// RentalsEver lists those of a site, also those that have ended.
func (q Queries) RentalsEver(ctx context.Context, site string) ([]Rental, error) {
	return many[Rental](ctx, q.db, "SELECT "+rentalColumns+" FROM rentals WHERE site = $1 ORDER BY ordered, token", site)
}

// PlaceRental notes which instance came of an order; ErrTaken: another order has that instance.
func (q Queries) PlaceRental(ctx context.Context, token, instance string) error {
	return taken(q.change(ctx, ErrNotFound, "UPDATE rentals SET instance = $2 WHERE token = $1", token, instance))
}

// MarkRental keeps a mark with a rental.
func (q Queries) MarkRental(ctx context.Context, token, mark string) error {
	return q.change(ctx, ErrNotFound, "UPDATE rentals SET mark = $2 WHERE token = $1", token, mark)
}

// AdmitRental notes the key of an instance that calls for the first time; false: it has another
// key, or is given back.
func (q Queries) AdmitRental(ctx context.Context, token string, key []byte) (bool, error) {
	err := q.change(ctx, ErrNotFound, "UPDATE rentals SET key = $2 WHERE token = $1 AND (key = '' OR key = $2) AND NOT leaving", token, key)
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// LeaveRental notes that a rental is given back, and why it was first.
func (q Queries) LeaveRental(ctx context.Context, token, why string) error {
	return q.change(ctx, ErrNotFound, "UPDATE rentals SET leaving = true, why = CASE WHEN leaving THEN why ELSE $2 END WHERE token = $1", token, why)
}

// SpendRental notes what a rental has cost.
func (q Queries) SpendRental(ctx context.Context, token string, spent int64) error {
	return q.change(ctx, ErrNotFound, "UPDATE rentals SET spent = $2 WHERE token = $1", token, spent)
}

// EndRental notes that the instance of a rental is gone.
func (q Queries) EndRental(ctx context.Context, token string) error {
	return q.change(ctx, ErrNotFound, "UPDATE rentals SET leaving = true, ended = coalesce(ended, now()) WHERE token = $1", token)
}
