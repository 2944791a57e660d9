// Package e2e tests the whole product as its users meet it: the built program, its service on loopback, its commands,
// its network interface and its console in a browser.
package e2e

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// patience is how long what takes a moment may take: others may hold the machine's CPUs most of the time. It ends what
// hangs, and judges nothing.
const patience = 3 * time.Minute

var (
	program string // the built vinescale
	demo    *running
)

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "vinescale-e2e-")
	if err != nil {
		fail(err)
	}
	os.Chmod(dir, 0o711)
	program = filepath.Join(dir, "vinescale")
	if out, err := exec.Command("go", "build", "-o", program, "vinescale/cmd/vinescale").CombinedOutput(); err != nil {
		fail(fmt.Errorf("build: %w\n%s", err, out))
	}
	if demo, err = startDemo("--history", "2h"); err != nil {
		fail(err)
	}
	code := m.Run()
	demo.interrupt()
	os.RemoveAll(dir)
	os.Exit(code)
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, err)
	os.Exit(1)
}

// running is a started program with what it printed.
type running struct {
	cmd            *exec.Cmd
	address, token string
	ended          chan struct{}
	mu             sync.Mutex
	output         bytes.Buffer
}

func (r *running) Write(b []byte) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.output.Write(b)
}

func (r *running) text() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.output.String()
}

// start runs the program and waits until its output matches; the groups of the match are returned.
func start(ready *regexp.Regexp, environment []string, args ...string) (*running, []string, error) {
	return startProgram(program, ready, environment, args...)
}

func startProgram(program string, ready *regexp.Regexp, environment []string, args ...string) (*running, []string,
	error) {
	r := &running{cmd: exec.Command(program, args...), ended: make(chan struct{})}
	r.cmd.Env = append(os.Environ(), environment...)
	r.cmd.Stdout, r.cmd.Stderr = r, r
	if err := r.cmd.Start(); err != nil {
		return nil, nil, err
	}
	go func() { r.cmd.Wait(); close(r.ended) }()
	for end := time.Now().Add(patience); time.Now().Before(end); {
		if m := ready.FindStringSubmatch(r.text()); m != nil {
			return r, m, nil
		}
		select {
		case <-r.ended:
			return nil, nil, fmt.Errorf("%v ended at once:\n%s", args, r.text())
		case <-time.After(100 * time.Millisecond):
		}
	}
	r.cmd.Process.Kill()
	return nil, nil, fmt.Errorf("%v was not ready within %v:\n%s", args, patience, r.text())
}

var demoReady = regexp.MustCompile(`(?s)console +(http://\S+).*sign in +(vs_\w+).*Ctrl-C`)

func startDemo(args ...string) (*running, error) {
	r, m, err := start(demoReady, nil, append([]string{"demo", "--listen", "127.0.0.1:0"}, args...)...)
	if err != nil {
		return nil, err
	}
	r.address, r.token = m[1], m[2]
	return r, nil
}

var serveReady = regexp.MustCompile(`msg=serving address=(http://\S+)`)

// serve starts a service on a data directory.
func serve(t *testing.T, data string) *running { return serveBy(t, program, data) }

// serveBy starts a service of a program on a data directory.
func serveBy(t *testing.T, program, data string) *running {
	r, m, err := startProgram(program, serveReady, nil, "serve", "--listen", "127.0.0.1:0", "--data", data)
	require.NoError(t, err)
	r.address = m[1]
	token, err := os.ReadFile(filepath.Join(data, "administrator-token"))
	require.NoError(t, err)
	r.token = strings.TrimSpace(string(token))
	t.Cleanup(r.interrupt)
	return r
}

// dataDir is a directory that the database server's user can enter.
func dataDir(t *testing.T) string {
	dir, err := os.MkdirTemp("", "vinescale-e2e-data-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o711))
	t.Cleanup(func() { os.RemoveAll(dir) })
	return filepath.Join(dir, "data")
}

func (r *running) signal(s syscall.Signal) {
	r.cmd.Process.Signal(s)
	select {
	case <-r.ended:
	case <-time.After(patience):
		r.cmd.Process.Kill()
		<-r.ended
	}
}

func (r *running) interrupt() { r.signal(syscall.SIGINT) }

// result is what a command printed and how it ended.
type result struct {
	stdout, stderr string
	code           int
}

// run runs a command of the program against a service.
func (r *running) run(args ...string) result {
	return executeProgram(r.cmd.Path, r.environment(), args...)
}

// environment is what commands find the service by.
func (r *running) environment() []string {
	return []string{"VINESCALE_SERVICE=" + r.address, "VINESCALE_TOKEN=" + r.token}
}

func execute(environment []string, args ...string) result {
	return executeProgram(program, environment, args...)
}

func executeProgram(program string, environment []string, args ...string) result {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Env = append(os.Environ(), environment...)
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	cmd.Run()
	return result{stdout.String(), stderr.String(), cmd.ProcessState.ExitCode()}
}

// runJSON runs a command that must succeed and decodes what it prints.
func runJSON[T any](t *testing.T, r *running, args ...string) T {
	t.Helper()
	got := r.run(append(args, "--as", "json")...)
	require.Zero(t, got.code, "%v: %s", args, got.stderr)
	var v T
	require.NoError(t, json.Unmarshal([]byte(got.stdout), &v), got.stdout)
	return v
}

// call makes a request of the network interface.
func call(t *testing.T, method, url, token, contentType string, body io.Reader) (int, http.Header, []byte) {
	t.Helper()
	req, err := http.NewRequest(method, url, body)
	require.NoError(t, err)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	if contentType != "" {
		req.Header.Set("Content-Type", contentType)
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	answer, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, resp.Header, answer
}

// children lists the processes below a process, by /proc.
func children(pid int) []int {
	var found []int
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, f := range tasks {
		b, err := os.ReadFile(f)
		if err != nil {
			continue
		}
		words := bufio.NewScanner(bytes.NewReader(b))
		words.Split(bufio.ScanWords)
		for words.Scan() {
			var child int
			fmt.Sscan(words.Text(), &child)
			found = append(append(found, child), children(child)...)
		}
	}
	return found
}
