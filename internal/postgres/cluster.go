// Package postgres makes and runs a private PostgreSQL cluster in a directory, on loopback, for one program's use.
//
// The server is a child of this process and ends with it, however it ends. Start with Start.
package postgres

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Cluster is a running private server.
type Cluster struct {
	URL string // with its password: not for logs

	process *os.Process
	done    chan struct{} // closed when the server has ended
	waitErr error
}

// Start runs the cluster in dir, making it first where there is none, and returns when it takes connections.
// Errors say what to do: which package to install, whose directory it must be, which version it is of.
func Start(ctx context.Context, dir string) (*Cluster, error) {
	bin, err := findBinaries()
	if err != nil {
		return nil, err
	}
	as, err := serverUser()
	if err != nil {
		return nil, err
	}
	c := &Cluster{done: make(chan struct{})}
	password, err := prepare(ctx, bin, dir, as)
	if err != nil {
		return nil, err
	}
	if err := awaitPredecessor(ctx, dir); err != nil {
		return nil, err
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	if err := c.run(bin, dir, port, as); err != nil {
		return nil, err
	}
	c.URL = (&url.URL{
		Scheme: "postgres", User: url.UserPassword("vinescale", password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(port)),
		Path: "/postgres", RawQuery: "sslmode=disable",
	}).String()
	if err := c.ready(ctx, dir); err != nil {
		c.Stop()
		return nil, err
	}
	return c, nil
}

// findBinaries finds the directory of the newest PostgreSQL server on this machine.
func findBinaries() (string, error) {
	dirs, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	slices.SortFunc(dirs, func(a, b string) int { return majorOf(b) - majorOf(a) })
	if p, err := exec.LookPath("postgres"); err == nil {
		dirs = append(dirs, filepath.Dir(p))
	}
	for _, d := range dirs {
		if _, err := os.Stat(filepath.Join(d, "initdb")); err == nil {
			return d, nil
		}
	}
	return "",
		errors.New(
			"no PostgreSQL server is installed here: install the package postgresql, or give --database URL of a " +
				"running one")
}

func majorOf(binDir string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(binDir)))
	return n
}

// serverUser is whom the server runs as: PostgreSQL refuses to run as root.
func serverUser() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil,
			fmt.Errorf(
				"PostgreSQL does not run as root, and there is no user postgres to run it as: install the package " +
					"postgresql, or start vinescale as another user")
	}
	uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

const passwordFile = "vinescale-password"

// prepare makes the cluster where there is none, and returns its password.
func prepare(ctx context.Context, bin, dir string, as *syscall.Credential) (string, error) {
	if has, err := os.ReadFile(filepath.Join(dir, "PG_VERSION")); err == nil {
		want, err := exec.CommandContext(ctx, filepath.Join(bin, "postgres"), "--version").Output()
		if err != nil {
			return "", fmt.Errorf("ask PostgreSQL its version: %w", err)
		}
		is := strings.TrimSpace(string(has))
		if f := strings.Fields(string(want)); len(f) >= 3 && !strings.HasPrefix(f[2], is+".") {
			return "",
				fmt.Errorf(
					"%s was made by PostgreSQL %s, and %s is installed: install PostgreSQL %s again, or move the "+
						"data with pg_upgrade", dir, is, f[2], is)
		}
		password, err := os.ReadFile(filepath.Join(dir, passwordFile))
		if err != nil {
			return "",
				fmt.Errorf(
					"%s is a PostgreSQL cluster, but not one that vinescale made: give another directory, or "+
						"--database URL", dir)
		}
		return strings.TrimSpace(string(password)), nil
	}
	if names, err := os.ReadDir(dir); err == nil && len(names) > 0 {
		return "", fmt.Errorf("%s is not empty and holds no cluster: give another directory", dir)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	if as != nil {
		if err := os.Chown(dir, int(as.Uid), int(as.Gid)); err != nil {
			return "", fmt.Errorf("give %s to the user postgres: %w", dir, err)
		}
	}
	random := make([]byte, 24)
	if _, err := rand.Read(random); err != nil {
		return "", err
	}
	password := hex.EncodeToString(random)
	if err := initdb(ctx, bin, dir, password, as); err != nil {
		os.RemoveAll(dir)
		return "", err
	}
	file := filepath.Join(dir, passwordFile)
	return password, os.WriteFile(file, []byte(password+"\n"), 0o600)
}

func initdb(ctx context.Context, bin, dir, password string, as *syscall.Credential) error {
	r, w, err := os.Pipe() // the password never touches a disk or a command line
	if err != nil {
		return err
	}
	defer r.Close()
	go func() {
		io.WriteString(w, password+"\n")
		w.Close()
	}()
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", dir, "-U", "vinescale", "--pwfile=/dev/fd/3",
		"--auth=scram-sha-256", "-E", "UTF8", "--locale=C", "--no-sync")
	cmd.ExtraFiles = []*os.File{r}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	if as != nil {
		if err := r.Chown(int(as.Uid), int(as.Gid)); err != nil {
			return err
		}
	}
	cmd.Dir = "/"
	if out, err := cmd.CombinedOutput(); err != nil {
		hint := ""
		if bytes.Contains(out, []byte("Permission denied")) {
			hint = ": the user postgres must be able to enter every directory above it"
		}
		return fmt.Errorf("make a PostgreSQL cluster in %s: %w%s\n%s", dir, err, hint, bytes.TrimSpace(out))
	}
	return nil
}

// awaitPredecessor waits for a server that still runs in dir: one whose program was killed a moment ago is shutting
// down.
func awaitPredecessor(ctx context.Context, dir string) error {
	for range 150 {
		first, _, _ := strings.Cut(tail(filepath.Join(dir, "postmaster.pid"), 1000), "\n")
		pid, err := strconv.Atoi(first)
		if err != nil {
			return nil
		}
		comm, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
		if err != nil || strings.TrimSpace(string(comm)) != "postgres" {
			return nil // it is gone; the new server clears what it left
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return fmt.Errorf("another PostgreSQL server runs in %s: stop it first", dir)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// run starts the server from a thread that lives as long as this process, since the kernel signals the child when the
// thread that made it ends: so the server ends even when this process is killed.
func (c *Cluster) run(bin, dir string, port int, as *syscall.Credential) error {
	log, err := os.OpenFile(filepath.Join(dir, "server.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := exec.Command(filepath.Join(bin, "postgres"), "-D", dir, "-h", "127.0.0.1", "-p", strconv.Itoa(port),
		"-c", "unix_socket_directories=", "-c", "shared_buffers=128MB", "-c", "max_wal_size=2GB", "-c", "timezone=UTC",
		"-c", "log_timezone=UTC")
	cmd.Dir = dir
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as, Setpgid: true, Pdeathsig: syscall.SIGINT}
	started := make(chan error)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with this goroutine, after the server has
		err := cmd.Start()
		started <- err
		if err == nil {
			c.waitErr = cmd.Wait()
			close(c.done)
		}
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("start PostgreSQL: %w", err)
	}
	c.process = cmd.Process
	return nil
}

// ready waits until the server answers. After it was killed it goes through its log first, which takes minutes where
// much was written and the disk is slow.
func (c *Cluster) ready(ctx context.Context, dir string) error {
	const longest, silent = 10 * time.Minute, 5 * time.Second
	begun, isTold := time.Now(), false
	for {
		try, cancel := context.WithTimeout(ctx, 5*time.Second)
		conn, err := pgx.Connect(try, c.URL)
		cancel()
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-c.done:
			return fmt.Errorf("PostgreSQL ended at once (%v); its log %s ends:\n%s", c.waitErr,
				filepath.Join(dir, "server.log"), tail(filepath.Join(dir, "server.log"), 8))
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
		waited := time.Since(begun)
		if waited > longest {
			return fmt.Errorf("PostgreSQL does not answer after %v (%w); its log %s ends:\n%s", longest, err,
				filepath.Join(dir, "server.log"), tail(filepath.Join(dir, "server.log"), 8))
		}
		if waited > silent && !isTold {
			isTold = true
			slog.Info("waiting for PostgreSQL", "log", filepath.Join(dir, "server.log"), "answer", err)
		}
	}
}

func tail(file string, n int) string {
	f, err := os.Open(file)
	if err != nil {
		return err.Error()
	}
	defer f.Close()
	var lines []string
	for s := bufio.NewScanner(f); s.Scan(); {
		if lines = append(lines, s.Text()); len(lines) > n {
			lines = lines[1:]
		}
	}
	return strings.Join(lines, "\n")
}

// Stop ends the server in order (a "fast" shutdown) and waits for it.
func (c *Cluster) Stop() error {
	select {
	case <-c.done:
		return nil
	default:
	}
	if err := c.process.Signal(syscall.SIGINT); err != nil {
		return err
	}
	select {
	case <-c.done:
	case <-time.After(20 * time.Second):
		c.process.Signal(syscall.SIGQUIT) // "immediate": recovers by its log at the next start
		<-c.done
	}
	return nil
}

// Done is closed when the server has ended.
func (c *Cluster) Done() <-chan struct{} { return c.done }
