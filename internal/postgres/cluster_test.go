package postgres_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/postgres"
)

var ctx = context.Background()

// open is a directory that the server's user can enter.
func open(t *testing.T) string {
	dir, err := os.MkdirTemp("", "vinescale-postgres-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o711))
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func TestStart_KeepsItsDataItsPasswordAndToLoopback(t *testing.T) {
	dir := filepath.Join(open(t), "books")
	c, err := postgres.Start(ctx, dir)
	require.NoError(t, err)
	conn, err := pgx.Connect(ctx, c.URL)
	require.NoError(t, err)
	var addresses, method string
	require.NoError(t, conn.QueryRow(ctx, "SHOW listen_addresses").Scan(&addresses))
	require.NoError(t,
		conn.QueryRow(ctx, "SELECT string_agg(DISTINCT auth_method, ',') FROM pg_hba_file_rules").Scan(&method))
	assert.Equal(t, "127.0.0.1", addresses)
	assert.Equal(t, "scram-sha-256", method, "nobody on this machine gets in without the password")
	_, err = conn.Exec(ctx, "CREATE TABLE grapes AS SELECT 'riesling' AS kind")
	require.NoError(t, err)
	conn.Close(ctx)
	require.NoError(t, c.Stop())
	require.NoError(t, c.Stop(), "to stop twice is no mistake")

	c, err = postgres.Start(ctx, dir)
	require.NoError(t, err)
	defer c.Stop()
	conn, err = pgx.Connect(ctx, c.URL)
	require.NoError(t, err)
	defer conn.Close(ctx)
	var kind string
	require.NoError(t, conn.QueryRow(ctx, "SELECT kind FROM grapes").Scan(&kind))
	assert.Equal(t, "riesling", kind)
	info, err := os.Stat(filepath.Join(dir, "vinescale-password"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestStart_RefusesADirectoryThatIsNotItsOwnAndLeavesItAlone(t *testing.T) {
	dir := open(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "harvest.txt"), []byte("1 t"), 0o644))
	_, err := postgres.Start(ctx, dir)
	assert.ErrorContains(t, err, "not empty")
	names, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, names, 1)
}

func TestStart_ADirectoryTheServersUserCannotEnterSaysSo(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root runs the server as another user")
	}
	dir := open(t)
	require.NoError(t, os.Chmod(dir, 0o700))
	_, err := postgres.Start(ctx, filepath.Join(dir, "books"))
	assert.ErrorContains(t, err, "must be able to enter")
	assert.NoDirExists(t, filepath.Join(dir, "books"), "nothing half-made is left")
}
