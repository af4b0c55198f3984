package records

import (
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
)

// Two transactions that wait for each other both come to their end: the database undoes one of them,
// which is tried again.
func TestTransactionsThatWaitForEachOther(t *testing.T) {
	store := open(t)
	var met, all sync.WaitGroup
	met.Add(2)
	for i := range 2 {
		meet := sync.OnceFunc(func() { met.Done(); met.Wait() })
		all.Go(func() {
			assert.NoError(t, store.InTx(t.Context(), func(_ Queries, tx pgx.Tx) error {
				if _, err := tx.Exec(t.Context(), "SELECT pg_advisory_xact_lock($1)", 7001+i); err != nil {
					return err
				}
				meet()
				_, err := tx.Exec(t.Context(), "SELECT pg_advisory_xact_lock($1)", 7001+(1-i))
				return err
			}))
		})
	}
	all.Wait()
}
