// Package testdb gives tests a database each, on one private PostgreSQL server for the whole test binary.
//
// Call Main from TestMain, then New in a test.
package testdb

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"

	"vinescale/internal/postgres"
)

var (
	cluster *postgres.Cluster
	count   atomic.Int64
)

// Main runs a test binary's tests with a server, and returns its exit code.
func Main(m *testing.M) int {
	dir, err := os.MkdirTemp("", "vinescale-testdb-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o711); err != nil { // the server's user must be able to enter it
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	if cluster, err = postgres.Start(context.Background(), dir+"/postgres"); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer cluster.Stop()
	return m.Run()
}

// New makes an empty database and returns its URL.
func New(t testing.TB) string {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, cluster.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	name := fmt.Sprintf("test_%d", count.Add(1))
	if _, err := conn.Exec(ctx, "CREATE DATABASE "+name); err != nil {
		t.Fatal(err)
	}
	u, err := url.Parse(cluster.URL)
	if err != nil {
		t.Fatal(err)
	}
	u.Path = "/" + name
	return u.String()
}
