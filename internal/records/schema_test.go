package records

import (
	"context"
	"errors"
	"io/fs"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

// Records of an earlier version are kept before they are changed, and not changed when they cannot be
// kept; those of a newer version are refused and not touched.
func TestRecordsOfAnotherVersion(t *testing.T) {
	admin, err := pgx.Connect(t.Context(), server.URL)
	require.NoError(t, err)
	defer admin.Close(context.WithoutCancel(t.Context()))
	_, err = admin.Exec(t.Context(), "CREATE DATABASE versions")
	require.NoError(t, err)
	address := strings.Replace(server.URL, "/postgres?", "/versions?", 1)
	conn, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	defer conn.Close(context.WithoutCancel(t.Context()))
	version := func() int64 {
		t.Helper()
		v, err := SchemaOf(t.Context(), conn)
		require.NoError(t, err)
		return v
	}
	assert.Zero(t, version())
	db := stdlib.OpenDB(*conn.Config())
	defer db.Close()
	files, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files)
	require.NoError(t, err)
	newest := NewestSchema()
	_, err = provider.UpTo(t.Context(), newest-1)
	require.NoError(t, err)

	full := errors.New("no space is left")
	_, err = OpenWith(t.Context(), Opening{URL: address, Before: func(context.Context, int64, int64) error { return full }})
	assert.ErrorIs(t, err, full)
	assert.Equal(t, newest-1, version())
	var seen []int64
	open := func() error {
		s, err := OpenWith(t.Context(), Opening{URL: address, Before: func(_ context.Context, from, to int64) error {
			seen = append(seen, from, to, version())
			return nil
		}})
		if err == nil {
			s.Close()
		}
		return err
	}
	require.NoError(t, open())
	require.NoError(t, open(), "there is nothing to change now")
	assert.Equal(t, []int64{newest - 1, newest, newest - 1}, seen)
	assert.Equal(t, newest, version())

	_, err = conn.Exec(t.Context(), "INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, true)")
	require.NoError(t, err)
	err = open()
	assert.Equal(t, "database-newer", fault.Code(err))
	assert.ErrorContains(t, err, "newer version (9999)")
	assert.Len(t, seen, 3)
}
