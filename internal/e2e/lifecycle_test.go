package e2e

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/postgres"
	"vinescale/internal/sheet"
	"vinescale/internal/wire"
)

// requireGone waits until processes have ended.
func requireGone(t *testing.T, pids []int) {
	require.NotEmpty(t, pids, "there was a database server")
	require.Eventually(t, func() bool {
		for _, pid := range pids {
			stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
			if err == nil && !strings.Contains(string(stat), ") Z ") { // who reaps it is not ours to say
				return false
			}
		}
		return true
	}, patience, 100*time.Millisecond, "processes %v are still there", pids)
}

var collectReady = regexp.MustCompile(`msg=collecting`)

func TestDemo_EndsCleanlyAndLeavesNothingBehind(t *testing.T) {
	temporary := t.TempDir()
	require.NoError(t, os.Chmod(temporary, 0o711))
	require.NoError(t, os.Chmod(filepath.Dir(temporary), 0o711))
	r, m, err := start(
		demoReady,
		[]string{"TMPDIR=" + temporary},
		"demo",
		"--listen",
		"127.0.0.1:0",
		"--history",
		"0s",
	)
	require.NoError(t, err)
	require.NotEmpty(t, m[1])
	below := children(r.cmd.Process.Pid)
	r.interrupt()
	assert.Zero(t, r.cmd.ProcessState.ExitCode(), r.text())
	requireGone(t, below)
	left, err := os.ReadDir(temporary)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestDemo_NothingIsOrphanedEvenWhenItIsKilled(t *testing.T) {
	r, err := startDemo("--history", "0s", "--data", dataDir(t))
	require.NoError(t, err)
	below := children(r.cmd.Process.Pid)
	r.signal(syscall.SIGKILL)
	requireGone(t, below)
}

// TestServe_CollectsItsOwnHost has one command that serves and collects: the collector goes on after the service was
// killed and begun again, ends with it, and takes no other's host.
func TestServe_CollectsItsOwnHost(t *testing.T) {
	data := dataDir(t)
	ready := regexp.MustCompile(`(?s)msg=serving address=(http://\S+).*console is at http.*` +
		regexp.QuoteMeta(filepath.Join(data, "administrator-token")))
	begin := func() *running {
		r, m, err := start(
			ready,
			nil,
			"serve",
			"--collect",
			"--host",
			"press-9",
			"--listen",
			"127.0.0.1:0",
			"--data",
			data,
		)
		require.NoError(t, err)
		r.address = m[1]
		token, err := os.ReadFile(filepath.Join(data, "administrator-token"))
		require.NoError(t, err)
		r.token = strings.TrimSpace(string(token))
		t.Cleanup(r.interrupt)
		require.Eventually(t, func() bool { return collectReady.MatchString(r.text()) }, patience,
			100*time.Millisecond)
		return r
	}
	r := begin()
	below := children(r.cmd.Process.Pid)
	r.signal(syscall.SIGKILL)
	requireGone(t, below)

	r = begin()
	require.Eventually(t, func() bool { return strings.Contains(r.run("hosts", "--as", "csv").stdout, "reporting") },
		patience, time.Second, "its first interval is in the books")
	got := r.run("share", "--by", "workload", "--as", "csv")
	assert.Contains(t, got.stdout, "vinescale", got.stderr)
	require.Zero(t, r.run("hosts", "enrol", "press-8").code)
	below = children(r.cmd.Process.Pid)
	r.interrupt()
	assert.Zero(t, r.cmd.ProcessState.ExitCode(), r.text())
	requireGone(t, below)

	other := execute(
		nil,
		"serve",
		"--collect",
		"--host",
		"press-8",
		"--listen",
		"127.0.0.1:0",
		"--data",
		data,
		"--spool",
		filepath.Join(data, "spool-8"),
	)
	assert.Equal(t, 1, other.code)
	assert.Contains(t, other.stderr, "press-8 is enrolled already")
}

func TestServe_FindsItsDataAgainAfterAStopAndAfterAKill(t *testing.T) {
	data := dataDir(t)
	r := serve(t, data)
	require.Zero(t, r.run("tenant", "add", "Cellar Intake").code)
	busy := execute(nil, "serve", "--listen", "127.0.0.1:0", "--data", data)
	assert.Equal(t, 1, busy.code)
	assert.Contains(t, busy.stderr, "another vinescale runs on")
	r.interrupt()
	assert.Zero(t, r.cmd.ProcessState.ExitCode(), r.text())

	r = serve(t, data)
	assert.Contains(t, r.run("tenant", "list").stdout, "Cellar Intake")
	r.signal(syscall.SIGKILL)

	r = serve(t, data) // though the server of the killed one may still be shutting down
	assert.Contains(t, r.run("tenant", "list").stdout, "Cellar Intake")
	r.interrupt()

	require.NoError(t, os.WriteFile(filepath.Join(data, "VERSION"), []byte("vinescale data 0\n"), 0o644))
	other := execute(nil, "serve", "--listen", "127.0.0.1:0", "--data", data)
	assert.Equal(t, 1, other.code)
	assert.Contains(t, other.stderr, "of another version")
	require.NoError(t, os.WriteFile(filepath.Join(data, "VERSION"), []byte("vinescale data 1\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(data, "postgres/PG_VERSION"), []byte("9\n"), 0o600))
	other = execute(nil, "serve", "--listen", "127.0.0.1:0", "--data", data)
	assert.Equal(t, 1, other.code)
	assert.Contains(t, other.stderr, "was made by PostgreSQL 9")
}

func TestServe_UsesAnExistingServerAndRefusesADatabaseThatIsNotOurs(t *testing.T) {
	cluster, err := postgres.Start(context.Background(), dataDir(t))
	require.NoError(t, err)
	defer cluster.Stop()
	conn, err := pgx.Connect(context.Background(), cluster.URL)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	for _, sql := range []string{"CREATE DATABASE books", "CREATE DATABASE other"} {
		_, err = conn.Exec(context.Background(), sql)
		require.NoError(t, err)
	}
	at := func(name string) string { return strings.Replace(cluster.URL, "/postgres?", "/"+name+"?", 1) }
	r, m, err := start(serveReady, []string{"VINESCALE_TOKEN=vs_chosen"}, "serve", "--listen", "127.0.0.1:0",
		"--database", at("books"))
	require.NoError(t, err)
	r.address, r.token = m[1], "vs_chosen"
	assert.Zero(t, r.run("tenant", "add", "Cellar Intake").code)
	r.interrupt()
	assert.Zero(t, r.cmd.ProcessState.ExitCode())

	other, err := pgx.Connect(context.Background(), at("other"))
	require.NoError(t, err)
	defer other.Close(context.Background())
	_, err = other.Exec(context.Background(), "CREATE TABLE grapes (kind text)")
	require.NoError(t, err)
	refused := execute(nil, "serve", "--listen", "127.0.0.1:0", "--database", at("other"))
	assert.Equal(t, 1, refused.code)
	assert.Contains(t, refused.stderr, "not Vine Scale's")
}

func TestServe_APortInUseSaysSoAndMakesNothing(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	data := dataDir(t)
	got := execute(nil, "serve", "--listen", l.Addr().String(), "--data", data)
	assert.Equal(t, 1, got.code)
	assert.Contains(t, got.stderr, "something does already")
	assert.Contains(t, got.stderr, "--listen")
	assert.NoDirExists(t, data)
}

// lastRead is until when a spool tells of its host.
func lastRead(t *testing.T, spool string) (last time.Time) {
	files, err := filepath.Glob(filepath.Join(spool, "*.batch"))
	require.NoError(t, err)
	for _, file := range append(files, filepath.Join(spool, "open")) {
		raw, err := os.ReadFile(file)
		if errors.Is(err, fs.ErrNotExist) { // a minute was over just then
			continue
		}
		require.NoError(t, err)
		b, err := wire.Decode(raw, wire.TypeProtobuf, "zstd")
		require.NoError(t, err)
		for _, iv := range b.Intervals {
			if to := time.UnixMicro(iv.ToUnixMicros); to.After(last) {
				last = to
			}
		}
	}
	return last
}

func TestCollect_KeepsIntervalsUntilTheServiceHasThemAndCountsThemOnce(t *testing.T) {
	t.Parallel()
	data, spool := dataDir(t), filepath.Join(t.TempDir(), "spool")
	service := serve(t, data)
	address := strings.TrimPrefix(service.address, "http://")
	credential := strings.TrimSpace(service.run("hosts", "enrol", "cellar-9").stdout)
	service.interrupt()

	collecting := []string{"collect", "--service", "http://" + address, "--host", "cellar-9", "--spool", spool,
		"--tick", "200ms"}
	environment := []string{"VINESCALE_CREDENTIAL=" + credential}
	kept := func() int {
		files, err := filepath.Glob(filepath.Join(spool, "*.batch"))
		require.NoError(t, err)
		return len(files)
	}
	// Twice, with the service down: the open interval is closed and kept when the collector is ended, and what there
	// was of it is found by the next one when it is killed.
	open := filepath.Join(spool, "open")
	var first, opened time.Time      // its first reading is between them
	var longest, least time.Duration // for how long the host was read
	for n := range 2 {
		began := time.Now()
		c, _, err := start(collectReady, environment, collecting...)
		require.NoError(t, err)
		require.Eventually(t, func() bool { _, err := os.Stat(open); return err == nil }, patience,
			10*time.Millisecond)
		read := time.Now()
		if n == 0 {
			first, opened = began, read
		}
		second := execute(environment, collecting...)
		assert.Equal(t, 1, second.code)
		assert.Contains(t, second.stderr, "in use by another collector")
		time.Sleep(4 * time.Second)
		if n == 1 {
			c.signal(syscall.SIGKILL)
			longest += time.Since(began)
			least += lastRead(t, spool).Sub(read)
			break
		}
		least += time.Since(read)
		c.interrupt()
		longest += time.Since(began)
		assert.Zero(t, c.cmd.ProcessState.ExitCode(), c.text())
		assert.GreaterOrEqual(t, kept(), 1)
	}
	// A file cut short by a crash of another kind is set aside, and holds up nothing.
	require.NoError(t, os.WriteFile(filepath.Join(spool, "00000000000000000001.batch"), []byte("cut short"), 0o600))

	ended := time.Now().UTC()
	again, m, err := start(serveReady, nil, "serve", "--listen", address, "--data", data)
	require.NoError(t, err)
	again.address, again.token = m[1], service.token
	t.Cleanup(again.interrupt)
	began := time.Now()
	c, _, err := start(collectReady, environment, collecting...)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return kept() == 0 }, patience, 100*time.Millisecond,
		"the service has taken them")
	c.interrupt()
	over := time.Now()
	longest += over.Sub(began)
	assert.FileExists(t, filepath.Join(spool, "refused/00000000000000000001.batch"))
	l := runJSON[sheet.Ledger](t, again, "ledger", "--host", "cellar-9",
		"--from", ended.Add(-10*time.Minute).Format(time.RFC3339), "--to", over.Format(time.RFC3339))
	requireBalance(t, l)
	// Two stretches that were read, and two between that were not, each once.
	const rounding = 0.01
	assert.GreaterOrEqual(t, l.ElapsedS, began.Sub(opened).Seconds()-rounding)
	assert.LessOrEqual(t, l.ElapsedS, over.Sub(first).Seconds()+rounding)
	require.Len(t, l.Caveats, 1)
	assert.Equal(t, "unwatched", l.Caveats[0].What)
	watched := l.ElapsedS - float64(l.Caveats[0].Amount)/1000
	assert.GreaterOrEqual(t, watched, least.Seconds()-rounding)
	assert.LessOrEqual(t, watched, longest.Seconds()+rounding)
	assert.NoFileExists(t, open)
}
