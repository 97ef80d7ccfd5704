// Package storetest gives tests databases of their own, on a PostgreSQL that
// is started for the test program and ends with it.
package storetest

import (
	"context"
	"fmt"
	"os"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"nimblepane/store"
	"nimblepane/store/localpg"
)

var (
	server *localpg.Server
	count  atomic.Int64
)

// template is a database with the schema, which the tests' are copied from.
const template = "template_nimblepane"

// Main runs the tests of a package with a PostgreSQL beside them: call it from TestMain.
func Main(m *testing.M) {
	code, err := run(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, "storetest:", err)
		code = 1
	}
	os.Exit(code)
}

func run(m *testing.M) (int, error) {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "nimblepane-test-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	port, err := localpg.FreePort()
	if err != nil {
		return 0, err
	}
	if server, err = localpg.Start(ctx, dir, port, true); err != nil {
		return 0, err
	}
	defer server.Stop()
	if err := create(ctx, template, "template0"); err != nil {
		return 0, err
	}
	st, err := store.Open(ctx, server.URL(template))
	if err != nil {
		return 0, err
	}
	st.Close()
	return m.Run(), nil
}

func create(ctx context.Context, name, from string) error {
	db, err := pgx.Connect(ctx, server.URL("postgres"))
	if err != nil {
		return err
	}
	defer db.Close(ctx)
	_, err = db.Exec(ctx, fmt.Sprintf("create database %s template %s", name, from))
	return err
}

// URL returns the connection string of a new database with the schema.
func URL(t testing.TB) string {
	t.Helper()
	name := fmt.Sprintf("test_%d", count.Add(1))
	require.NoError(t, create(context.Background(), name, template))
	return server.URL(name)
}

// Open returns a store on a new database.
func Open(t testing.TB) *store.Store {
	t.Helper()
	st, err := store.Open(context.Background(), URL(t))
	require.NoError(t, err)
	t.Cleanup(st.Close)
	return st
}
