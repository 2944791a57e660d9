package e2e

import (
	"bufio"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/charmbracelet/x/vt"
	"github.com/creack/pty"
	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/browser"
	"vinescale/internal/sheet"
)

// window is a terminal window in which a command runs.
type window struct {
	cmd  *exec.Cmd
	file *os.File
	mu   sync.Mutex
	text strings.Builder
	seen *vt.SafeEmulator // what somebody before it sees
	done chan struct{}
}

func openWindow(t *testing.T, width, height uint16, args ...string) *window {
	w := &window{cmd: exec.Command(program, args...), done: make(chan struct{}),
		seen: vt.NewSafeEmulator(int(width), int(height))}
	w.cmd.Env = append(append(os.Environ(), "TERM=xterm-256color"), demo.environment()...)
	var err error
	w.file, err = pty.StartWithSize(w.cmd, &pty.Winsize{Cols: width, Rows: height})
	require.NoError(t, err)
	t.Cleanup(func() { w.cmd.Process.Kill(); w.file.Close() })
	go func() { _, _ = io.Copy(w.file, w.seen) }() // what a terminal answers
	go func() {
		defer close(w.done)
		piece := make([]byte, 4096)
		for {
			n, err := w.file.Read(piece)
			w.mu.Lock()
			w.text.Write(piece[:n])
			w.mu.Unlock()
			_, _ = w.seen.Write(piece[:n])
			if err != nil {
				return
			}
		}
	}()
	return w
}

// home is where each frame begins.
const home = "\x1b[H"

// frames are those that were drawn wholly so far.
func (w *window) frames() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	parts := strings.Split(w.text.String(), home)
	return parts[1:max(len(parts)-1, 1)]
}

// waitFrames waits for so many frames beyond those that there were.
func (w *window) waitFrames(t *testing.T, were, more int) []string {
	var all []string
	require.Eventually(t, func() bool { all = w.frames(); return len(all) >= were+more }, patience,
		100*time.Millisecond)
	return all
}

// fits tells that a frame is within a window, and that it overwrites what was there.
func fits(t *testing.T, frame string, width, height int) {
	lines := strings.Split(frame, "\r\n")
	assert.LessOrEqual(t, len(lines), height)
	for _, line := range lines {
		assert.Contains(t, line, "\x1b[K", "what stood there before is gone")
		shown := strings.NewReplacer("\x1b[K", "", "\x1b[J", "").Replace(line)
		assert.LessOrEqual(t, runewidth.StringWidth(shown), width, shown)
		assert.NotContains(t, shown, "\n")
	}
}

func TestLive_ACommandRenewsItsTableInTheWindow(t *testing.T) {
	w := openWindow(t, 80, 24, "share", "--of", "cpu", "--by", "tenant", "--live=1s")
	require.Eventually(t, func() bool { return strings.Contains(strings.Join(w.frames(), ""), "Frost Watch") },
		patience, 100*time.Millisecond)
	were := len(w.frames()) - 1
	all := w.waitFrames(t, were, 3)[were:]
	for _, frame := range all {
		fits(t, frame, 80, 24)
		assert.Contains(t, frame, "Frost Watch")
	}
	last := all[len(all)-1]
	assert.Regexp(t, `every 1s  ·  \d hosts are read every [15]s, for 0\.\d+ CPUs`, last)
	assert.NotEqual(t, all[0], last)

	require.NoError(t, pty.Setsize(w.file, &pty.Winsize{Cols: 50, Rows: 10}))
	were = len(w.frames())
	all = w.waitFrames(t, were, 3)
	fits(t, all[len(all)-1], 50, 10)
	assert.Contains(t, all[len(all)-1], "more lines: a larger window")

	require.NoError(t, w.cmd.Process.Signal(syscall.SIGINT))
	<-w.done
	require.NoError(t, w.cmd.Wait())
	assert.Contains(t, w.text.String(), "\x1b[?25h\x1b[?1049l", "the window is as it was before")
	_, after, _ := strings.Cut(w.text.String(), "\x1b[?1049l")
	assert.Contains(t, after, "Frost Watch", "what was seen last stays to be read")
}

// TestLive_AProgramReadsAnObjectAFrame and stops reading when it has enough.
func TestLive_AProgramReadsAnObjectAFrame(t *testing.T) {
	for as, check := range map[string]func(line string){
		"jsonl": func(line string) {
			var frame struct {
				At     time.Time
				Answer struct {
					ElapsedS float64 `json:"elapsed_seconds"`
					Shares   []struct{ Name string }
				}
			}
			require.NoError(t, json.Unmarshal([]byte(line), &frame), line)
			assert.WithinDuration(t, time.Now(), frame.At, time.Minute)
			assert.InDelta(t, 5, frame.Answer.ElapsedS, 6)
			assert.NotEmpty(t, frame.Answer.Shares)
		},
		"csv": func(line string) {
			assert.Regexp(t, `^(at,host,|\d{4}-\d\d-\d\dT[0-9:]+Z,\S)`, line)
		},
	} {
		cmd := exec.Command(program, "share", "--live=1s", "--as", as)
		cmd.Env = append(os.Environ(), demo.environment()...)
		read, write := io.Pipe()
		cmd.Stdout = write
		require.NoError(t, cmd.Start())
		lines := bufio.NewScanner(read)
		lines.Buffer(nil, 1<<20)
		for range 3 {
			require.True(t, lines.Scan())
			check(lines.Text())
		}
		read.Close() // as head does
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		select {
		case <-ended:
		case <-time.After(patience):
			cmd.Process.Kill()
			assert.Fail(t, "it goes on though nobody reads")
		}
	}
}

// TestLive_EveryListingIsFollowed by the examples of the README, and by one that live frames do not answer.
func TestLive_EveryListingIsFollowed(t *testing.T) {
	for _, line := range []string{
		"ledger --host press-1 --of disk --live=1s --as jsonl", "balance --live=1s --as jsonl",
		"series --by workload --host cellar-1 --span 15m --live=1s --as jsonl",
		"workloads --live=1s --first 3 --as jsonl", "pins --live=1s --as jsonl", "disks --live=1s --as jsonl",
		"about host/cellar-1 --live=1s --as jsonl", "events --live=1s --as jsonl", "hosts --live=1s --as jsonl",
		"share --span 24h --live=1s --as jsonl", "cpus cellar-1 --live=1s --as jsonl",
		"interfaces --live=1s --as jsonl", "gpus press-1 --live=1s --as jsonl", "memory cellar-1 --live=1s --as jsonl",
		"threads --live=1s --as jsonl", "programs --live=1s --as jsonl", "unused --live=1s --as jsonl",
	} {
		cmd := exec.Command(program, strings.Fields(line)...)
		cmd.Env = append(os.Environ(), demo.environment()...)
		read, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start(), line)
		lines := bufio.NewScanner(read)
		lines.Buffer(nil, 8<<20)
		for range 2 {
			if assert.True(t, lines.Scan(), line) {
				assert.True(t, json.Valid(lines.Bytes()), "%s: %.200s", line, lines.Text())
			}
		}
		cmd.Process.Signal(syscall.SIGTERM)
		go io.Copy(io.Discard, read)
		assert.NoError(t, cmd.Wait(), line)
	}
	got := demo.run("balance", "--of", "disk", "--live=1s", "--fail-on", "over")
	assert.Equal(t, 3, got.code, got.stderr)
	assert.Contains(t, got.stdout, "Cellar Intake")
}

func TestLive_WhatCannotBeFollowedIsSaid(t *testing.T) {
	for args, want := range map[string]string{
		"share --live=0s": "a pace from 1s to 1m", "share --live=2m": "a pace from 1s to 1m",
		"share --live=x":                       "a pace from 1s to 1m",
		"share --live --from 2026-10-11":       "leave out --from",
		"series --live --to 2026-10-11":        "leave out --to",
		"ledger --host cellar-9 --live":        "cellar-9",
		"share --live --span 15m --span never": "a span of",
		"weigh --live=90s":                     "a pace from 1s to 1m",
		"weigh --live=2s --over 3s":            "leave out --over",
	} {
		got := demo.run(strings.Fields(args)...)
		assert.NotZero(t, got.code, args)
		assert.Contains(t, got.stderr, want, args)
	}
}

// TestLive_ThisHostIsWeighedOnAndOn: each ledger begins where the one before ended, and balances.
func TestLive_ThisHostIsWeighedOnAndOn(t *testing.T) {
	cmd := exec.Command(program, "weigh", "--live=1s", "--as", "jsonl")
	read, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	lines := bufio.NewScanner(read)
	lines.Buffer(nil, 8<<20)
	var before time.Time
	for range 3 {
		require.True(t, lines.Scan())
		var frame struct{ Answer sheet.Ledger }
		require.NoError(t, json.Unmarshal(lines.Bytes(), &frame))
		l := frame.Answer
		if !before.IsZero() {
			assert.WithinDuration(t, before, l.From, time.Millisecond)
		}
		before = l.To
		sum := *l.Kernel + *l.Steal + *l.Idle + *l.Residual
		for _, share := range l.Shares {
			if share.Amount != nil {
				sum += *share.Amount
			}
		}
		assert.InDelta(t, *l.Capacity, sum, 1e-6)
		assert.NotEmpty(t, l.Shares)
	}
	cmd.Process.Signal(syscall.SIGINT)
	go io.Copy(io.Discard, read)
	assert.NoError(t, cmd.Wait())
}

// framesOf counts what a command that follows is sent, a line a frame, until it is asked.
func framesOf(t *testing.T, args ...string) (told func() int) {
	cmd := exec.Command(program, args...)
	cmd.Env = append(os.Environ(), demo.environment()...)
	read, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	counted := make(chan int)
	go func() {
		lines, n := bufio.NewReader(read), 0
		for {
			if _, err := lines.ReadString('\n'); err != nil {
				counted <- n
				return
			}
			n++
		}
	}()
	return func() int {
		cmd.Process.Signal(syscall.SIGTERM)
		n := <-counted
		assert.NoError(t, cmd.Wait())
		assert.Positive(t, n, "frames were sent")
		return n
	}
}

// TestLive_AHostsPageMovesByItself at a second's pace, over one connection, holding no more memory and moving nothing
// but figures.
func TestLive_AHostsPageMovesByItself(t *testing.T) {
	t.Parallel()
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.Go(demo.address+"/hosts/cellar-1"))
	require.NoError(t, b.WaitText("The ledger"))
	_, err := browser.Eval[bool](
		b,
		"([...document.querySelectorAll('button')].find(x => x.innerText === 'now').click(), true)",
	)
	require.NoError(t, err)
	require.NoError(t, b.WaitText("Now"))
	assert.Equal(t, "/hosts/cellar-1?live=5s", address(t, b))
	require.NoError(t, b.WaitText("1 host is read every 5 s"))
	require.NoError(t, b.Go(demo.address+"/hosts/cellar-1?live=1s"))
	require.NoError(t, b.WaitText("1 host is read every 1 s")) // which takes one usual tick
	assert.Empty(t, violations(t, b))
	require.NoError(t, b.WaitFor("document.querySelector('canvas')"))

	// The drawing and the texts of the ledger are noted each second, with where things stand.
	_, err = browser.Eval[bool](b, `(window.seen = 0, window.moved = [], window.asked = 0,
		new PerformanceObserver(l => { for (const e of l.getEntries())
			if (/\/api\/v1\/(ledger|cpus|balance|series)/.test(e.name) && !e.name.includes('ask=')) window.asked++
		}).observe({ type: 'resource' }),
		setInterval(() => {
			const text = document.querySelector('main').innerText
			if (text !== window.text) window.seen++
			window.text = text
			const heads = [...document.querySelectorAll('main h2')]
			window.tops ??= heads.map(h => h.getBoundingClientRect().top)
			heads.forEach((h, i) => {
				const by = h.getBoundingClientRect().top - window.tops[i]
				if (Math.abs(by) >= 3) window.moved.push(h.innerText + ' by ' + by + ' pixels; the page: ' + text)
			})
		}, 500), true)`)
	require.NoError(t, err)
	time.Sleep(10 * time.Second)
	first, err := b.Heap()
	require.NoError(t, err)
	watched := 30 * time.Second
	if text := os.Getenv("VINESCALE_WATCH"); text != "" { // longer than there is time for each time
		watched, err = time.ParseDuration(text)
		require.NoError(t, err)
	}
	told := framesOf(t, "ledger", "--host", "cellar-1", "--live=1s", "--as", "jsonl")
	time.Sleep(watched)
	frames := told()
	last, err := b.Heap()
	require.NoError(t, err)
	t.Logf("the page holds %.1f MB after 10 s, and %.1f MB %v later", float64(first)/1e6, float64(last)/1e6, watched)
	assert.Less(t, float64(last), 1.1*float64(first))
	seen, err := browser.Eval[int](b, "window.seen")
	require.NoError(t, err)
	assert.Greater(t, seen, frames/2, "figures moved by the second, as the frames that were sent did")
	asked, err := browser.Eval[int](b, "window.asked")
	require.NoError(t, err)
	assert.LessOrEqual(
		t,
		asked,
		12*max(1, int(watched/(30*time.Second))),
		"what moves is sent, and not asked for: only what the book had more of was",
	)
	moved, err := browser.Eval[[]string](b, "window.moved.slice(0, 1)")
	require.NoError(t, err)
	assert.Empty(t, moved, "nothing was moved aside")
}
