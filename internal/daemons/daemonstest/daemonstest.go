// Package daemonstest gives the tests of a package a PostgreSQL server of their own.
package daemonstest

import (
	"context"
	"fmt"
	"os"
	"testing"

	"domicile/internal/daemons"
)

// Postgres runs a package's tests with a server that is made for them and gone after them;
// server points to it meanwhile. It gives the exit status for TestMain.
func Postgres(m *testing.M, server **daemons.Postgres) int {
	folder, err := os.MkdirTemp("", "domicile-test-")
	if err == nil {
		defer os.RemoveAll(folder)
		err = os.Chmod(folder, 0o755) // PostgreSQL's user must pass
	}
	if err == nil {
		*server, err = daemons.StartPostgres(context.Background(), folder)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "the tests cannot be set up:", err)
		return 1
	}
	defer (*server).Stop()
	return m.Run()
}
