package e2e

import (
	"regexp"
	"strconv"
	"strings"

	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func (w *window) press(t *testing.T, keys ...string) {
	for _, k := range keys {
		_, err := w.file.WriteString(k)
		require.NoError(t, err)
		time.Sleep(100 * time.Millisecond) // a person's fingers: Escape is told from what it begins by the time between
	}
}

// sees waits until the screen has something, and returns it.
func (w *window) sees(t *testing.T, pattern string) string {
	t.Helper()
	re := regexp.MustCompile(pattern)
	text := ""
	if !assert.Eventually(t, func() bool { text = w.seen.String(); return re.MatchString(text) }, patience,
		50*time.Millisecond) {
		require.Fail(t, "not seen", "%s in\n%s", pattern, text)
	}
	return text
}

func (w *window) resize(t *testing.T, width, height int) {
	w.seen.Resize(width, height)
	require.NoError(t, pty.Setsize(w.file, &pty.Winsize{Rows: uint16(height), Cols: uint16(width)}))
}

// leaves presses what ends it, and waits for a good end.
func (w *window) leaves(t *testing.T) {
	w.press(t, "q")
	assert.NoError(t, w.cmd.Wait())
	<-w.done
	assert.Contains(t, w.text.String(), "\x1b[?1049l", "the terminal is as it was before")
	// Only bold, reverse and their end are used: nothing depends on a colour.
	for _, m := range regexp.MustCompile("\x1b\\[([0-9;:]*)m").FindAllStringSubmatch(w.text.String(), -1) {
		for code := range strings.FieldsFuncSeq(m[1], func(r rune) bool { return r == ';' }) {
			assert.Contains(t, []string{"0", "1", "7", "22", "27"}, code)
		}
	}
}

var ledgerSum = regexp.MustCompile(`([0-9.]+) capacity = ([0-9.]+) shares \+ ([0-9.]+) kernel \+ ([0-9.]+) idle ` +
	`([+-]) ([0-9.]+) residual`)

// balances holds the line of a ledger to its sum.
func balances(t *testing.T, screen string) {
	m := ledgerSum.FindStringSubmatch(strings.Join(strings.Fields(screen), " "))
	require.NotNil(t, m, screen)
	var v [7]float64
	for _, i := range []int{1, 2, 3, 4, 6} {
		var err error
		v[i], err = strconv.ParseFloat(m[i], 64)
		require.NoError(t, err)
	}
	if m[5] == "-" {
		v[6] = -v[6]
	}
	assert.InDelta(t, v[1], v[2]+v[3]+v[4]+v[6], 0.021, "%s", m[0])
}

// TestLive_MovesInATerminal works the terminal view of a host, by keys and a mouse, at two sizes.
func TestLive_MovesInATerminal(t *testing.T) {
	w := openWindow(t, 80, 24, "live", "cellar-1", "--pace", "1s", "--order", "-memory_bytes_mean")
	screen := w.sees(t, `(?s)\[Workloads\].*CPU of cellar-1.*bottling-plc.*q:leave`)
	balances(t, screen)
	first := strings.Index(screen, "bottling-plc")
	assert.Less(t, first, strings.Index(screen, "must-intake"), "what holds most memory stands first")

	w.press(t, "\t")
	screen = w.sees(t, `(?s)\[CPUs\].*load .* on 16 CPUs.*who ran there`)
	assert.Regexp(t, `(?m)^. +\d+ +0 +0 .*%.*curd-fermentlog|bottling`, screen)
	w.resize(t, 120, 40)
	screen = w.sees(t, `(?s)\[CPUs\].*\n +15 +7 +1 .*interrupts|(?s)interrupts.*\n +15 +7 +1 `)
	assert.NotContains(t, screen, "+0 →")
	w.press(t, "4")
	w.sees(t, `(?s)\[Disks\].*Storage is.*nvme`)
	w.press(t, "1", "f", "f", "e", "r", "m", "e", "n", "t", "\r", "\r")
	screen = w.sees(t, `(?s)within curd-fermentlog on cellar-1.*owner svc-cellar.*fermentlog +\d+ +`)
	assert.Contains(t, screen, "tenant Cellar Intake")
	w.press(t, "\r")
	w.sees(t, `(?s)› fermentlog \(\d+\).*on CPU`)
	w.press(t, "\x1b") // one after the other: two at once are another key
	w.sees(t, `within curd-fermentlog on cellar-1\s*\n`)
	w.press(t, "\x1b")
	w.sees(t, `find: ferment`)
	w.press(t, "w")
	w.sees(t, `(?s)What the columns mean.*tenant: Whom usage is accounted to`)
	w.press(t, "\x1b")
	w.sees(t, `(?s)\[Workloads\].*\d of \d+.*q:leave`)
	w.press(t, "a")
	w.sees(t, `(?s)Act on .*vinescale about`)
	w.press(t, "\r")
	w.sees(t, `do: vinescale about`)
	w.press(t, "\r")
	w.sees(t, `Press Enter to go back`)
	w.press(t, "\r")
	w.sees(t, `\[Workloads\]`)
	w.press(t, "h")
	w.sees(t, `held at`)
	w.press(t, "h")
	w.sees(t, `q:leave`)
	w.leaves(t)
}

// TestLive_GroupsAndHostsAreOpened goes from the fleet to the workloads of a tenant, of a kind and of a host.
func TestLive_GroupsAndHostsAreOpened(t *testing.T) {
	w := openWindow(t, 120, 40, "live", "--pace", "1s")
	w.sees(t, `(?s)\[Workloads\].*CPU of `)
	w.press(t, "g", "\x1b[B", "\r")
	w.sees(t, `(?s)tenant +workloads +cores.*Frost Watch`) // once frames have come
	w.press(t, "f", "F", "r", "o", "s", "t", "\r", "\r")
	screen := w.sees(t, `(?s)within tenant Frost Watch.*job 41`)
	assert.NotContains(t, screen, "bottling-plc")
	w.press(t, "\x1b")
	w.sees(t, `find: Frost`)
	w.press(t, "\x1b")
	w.sees(t, `(?s)Events\s*\n\s*CPU of `)
	w.press(t, "g", "\x1b[B", "\x1b[B", "\r")
	w.sees(t, `(?s)kind +workloads.*\bvm\b`)
	w.press(t, "f", "v", "m", "\r", "\r")
	w.sees(t, `(?s)within kind vm.*bottling-plc`)
	w.press(t, "2")
	w.sees(t, `(?s)\[Hosts\].*terrace-2`)
	w.press(t, "f", "c", "e", "l", "l", "\r", "\r")
	balances(t, w.sees(t, `(?s)within host cellar-1.*CPU of cellar-1.*bottling-plc`))
	w.leaves(t)
}

// TestLive_HereNeedsNoService reads this host itself, down to the threads of a process.
func TestLive_HereNeedsNoService(t *testing.T) {
	w := openWindow(t, 120, 40, "live", "--here", "--pace", "1s",
		"--gpu-library", "none")
	w.sees(t, `first reading`)
	w.sees(t, `(?s)CPU of .*looking takes|(?s)looking takes.*CPU of `)
	w.sees(t, `(?s)capacity =.*residual.*load `)
	w.press(t, "f", "vinescale", "\r", "\r")
	w.sees(t, `(?s)within vinescale.*may use`)
	w.press(t, "\r")
	w.sees(t, `(?s)› .*vinescale.*nice +state +waits in|(?s)› .*vinescale.*programs +system`)
	w.press(t, "\r")
	w.sees(t, `(?s)thread +name +on CPU.*(sleeping|running)`)
	w.press(t, "2")
	w.sees(t, `(?s)\[CPUs\].*load.*who ran there`)
	w.leaves(t)
}

// TestLive_MistakesAreTold starts what cannot be shown.
func TestLive_MistakesAreTold(t *testing.T) {
	for args, want := range map[string]string{
		"live":                          "needs a terminal; for programs, follow a listing with --live",
		"live --here --pace 5ms":        "needs a terminal",
		"live terrace-9 --page Barrels": "needs a terminal",
	} {
		got := demo.run(strings.Fields(args)...)
		assert.Equal(t, 2, got.code, args)
		assert.Contains(t, got.stderr, want, args)
	}
	for args, want := range map[string]string{
		"live cellar-1 --page Barrels": `there is no page "Barrels": choose one of Workloads`,
		"live --pace 2h":               "give a pace from 1s to 1m",
		"live user/m.abt":              "is a user: live shows a host, a tenant or a workload",
		"live --here cellar-1":         "--here looks at this host",
	} {
		w := openWindow(t, 120, 24, strings.Fields(args)...)
		w.sees(t, regexp.QuoteMeta(want))
	}
}
