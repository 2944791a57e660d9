package gpulibrary

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/internal/devices"
)

// TestMain lets this program be a helper, as vinescale is one.
func TestMain(m *testing.M) {
	var err error
	switch {
	case len(os.Args) == 3 && os.Args[1] == "gpu-helper":
		err = Serve(os.Args[2], os.Stdin, os.Stdout)
	case len(os.Args) > 2 && os.Args[1] == "gpu-adjust":
		err = Adjust(os.Args[2], os.Args[3:], os.Stdout)
	default:
		os.Exit(m.Run())
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// built is a library made from C.
func built(t testing.TB, source string) string {
	library := filepath.Join(t.TempDir(), "libgpus.so")
	out, err := exec.Command("cc", "-shared", "-fPIC", "-O2", "-Wall", "-Werror", "-o", library, source,
		"-ldl").CombinedOutput()
	require.NoError(t, err, "%s", out)
	return library
}

// simulated is the simulated library with a state.
func simulated(t testing.TB, state string) string {
	library := built(t, "simulated/gpus.c")
	tell(t, library, state)
	return library
}

func tell(t testing.TB, library, state string) {
	file := strings.TrimSuffix(library, ".so") + ".state"
	require.NoError(t, os.WriteFile(file+".new", []byte(state), 0o644))
	require.NoError(t, os.Rename(file+".new", file))
}

func open(t *testing.T, library string) *Library {
	l, err := Open(library)
	require.NoError(t, err)
	t.Cleanup(l.Close)
	return l
}

const twoGPUs = `driver 550.90
gpu 0
  name Cooper Leaf 48
  uuid GPU-a
  bus 00000000:3B:00.0
  minor 4
  memory.total 51539607552
  memory.used 9663676416
  busy 70
  busy.memory 31
  busy.encoder 5
  power.mw 212500
  cap.mw 300000
  cap.usual.mw 280000
  cap.least.mw 100000
  cap.most.mw 310000
  energy.mj 7200123
  temperature 92
  temperature.slowdown 90
  temperature.shutdown 95
  fan 63
  clock.graphics 1035
  clock.most.graphics 1410
  heldback 96
  ecc 1
  ecc.corrected.volatile 3
  ecc.corrected.ever 318
  ecc.uncorrected.ever 2
  retired.corrected 7
  retired.uncorrected 0
  computemode 3
  display 0
  state 0
  link.generation 4
  link.width.most 16
  divided 0
  process 101 compute memory=4294967296 sm=40 mem=10 enc=0 dec=20
  process 102 compute memory=2147483648 sm=30
  process 102 graphics memory=2147483648 sm=30
  process 103 graphics
  process 4294967295 compute memory=5
gpu 1
  name Cooper Leaf 48
  uuid GPU-b
  bus 00000000:3C:00.0
  memory.total 51539607552
  memory.used 3221225472
  divided 1
  process 201 compute memory=1073741824 instance=1
  process 202 compute memory=2147483648 instance=2
gpu 1.0
  name Cooper Leaf 48, half
  uuid MIG-0
  instance 1
  multiprocessors 42
  slices 3
  memory.total 25769803776
  memory.used 1073741824
  process 201 compute memory=1073741824 instance=1
gpu 1.3
  name Cooper Leaf 48, half
  uuid MIG-3
  instance 2
  memory.total 25769803776
  memory.used 2147483648
`

// figureOf is a figure of a GPU as text: its value, what it says, or why there is none.
func figureOf(t *testing.T, g *devices.LibraryGPU, section, name string) string {
	for _, f := range g.Figures {
		if f.Section == section && f.Name == name {
			if f.Value != nil {
				return strings.TrimSpace(fmt.Sprintf("%g %s", *f.Value, f.Unit))
			}
			return f.Text + f.Why
		}
	}
	require.Fail(t, "there is no such figure", "%s, %s", section, name)
	return ""
}

func TestLibrary_TellsEveryFigureWithItsUnit(t *testing.T) {
	l := open(t, simulated(t, twoGPUs))
	a := l.Read()
	require.Empty(t, a.Why)
	assert.Equal(t, []string{"simulated", "550.90"}, []string{a.Version, a.Driver})
	assert.Empty(t, a.Missing)
	require.Len(t, a.GPUs, 2)
	g := &a.GPUs[0]
	assert.Equal(t, []any{"GPU-a", "Cooper Leaf 48", "00000000:3B:00.0", int64(4), ""},
		[]any{g.UUID, g.Title, g.Bus, g.Minor.N, g.Lost})
	assert.Equal(t, []devices.Figure{{N: 51539607552}, {N: 9663676416}, {N: 7200123000}, {N: 212500000}},
		[]devices.Figure{g.MemoryTotal, g.MemoryUsed, g.MicroJoules, g.MicroWatts})
	for _, x := range [][3]string{
		{"use", "busy", "70 %"}, {"use", "memory busy", "31 %"}, {"use", "encoder busy", "5 %"},
		{"use", "decoder busy", devices.NotSupported}, {"memory", "free", "4.1875931136e+10 B"},
		{"power", "power", "212.5 W"}, {"power", "cap", "300 W"}, {"power", "usual cap", "280 W"},
		{"power", "least cap", "100 W"}, {"power", "most cap", "310 W"},
		{"power", "energy since the driver was loaded", "7200.123 J"},
		{"temperature", "temperature", "92 °C"}, {"temperature", "slowed down from", "90 °C"},
		{"temperature", "shut down from", "95 °C"}, {"temperature", "fan", "63 %"},
		{"clocks", "graphics", "1035 MHz"}, {"clocks", "graphics, at most", "1410 MHz"},
		{"clocks", "video", devices.NotSupported}, {"clocks", "held back by", "heat, heat, by its hardware"},
		{"errors", "memory errors are corrected", "yes"},
		{"errors", "corrected errors of memory, since the driver was loaded", "3"},
		{"errors", "corrected errors of memory, ever", "318"}, {"errors", "uncorrected errors of memory, ever", "2"},
		{"errors", "uncorrected errors of memory, since the driver was loaded", devices.NotSupported},
		{"errors", "pages retired for corrected errors", "7"}, {"errors", "pages retired for uncorrected errors", "0"},
		{"mode", "compute mode", "one process"}, {"mode", "display attached", "no"},
		{"mode", "performance state", "P0, the fastest"}, {"mode", "divided", "no"},
		{"link", "generation", "4"}, {"link", "most width", "16 lanes"}, {"link", "width", devices.NotSupported},
	} {
		assert.Equal(t, x[2], figureOf(t, g, x[0], x[1]), "%s, %s", x[0], x[1])
	}
	// One process with two kinds of context has its memory once; a pid that cannot be is none.
	require.Len(t, g.Users, 3)
	assert.Equal(t, []any{int32(102), []string{"compute", "graphics"}, devices.Figure{N: 2147483648}},
		[]any{g.Users[1].PID, g.Users[1].Kinds, g.Users[1].Bytes})
	assert.False(t, g.Users[2].Bytes.OK(), "the library does not tell the memory of 103")

	card := &a.GPUs[1]
	require.Len(t, card.Parts, 2)
	assert.Equal(t, []any{"MIG-0", int32(0), "MIG-3", int32(3)},
		[]any{card.Parts[0].UUID, card.Parts[0].Index, card.Parts[1].UUID, card.Parts[1].Index})
	assert.Equal(t, "3", figureOf(t, &card.Parts[0], "device", "slices"))
	require.Len(t, card.Parts[1].Users, 1, "its processes are told at its card alone")
	assert.EqualValues(t, 202, card.Parts[1].Users[0].PID)
	assert.Equal(t, devices.NotSupported, card.Parts[0].BusyMicros.Why)
	assert.Equal(t, devices.NotSupported, card.Minor.Why)
}

// TestLibrary_EachFailureStaysWhatItIs: one call that fails costs its own figure, by the reason it fails for.
func TestLibrary_EachFailureStaysWhatItIs(t *testing.T) {
	library := simulated(t, twoGPUs)
	for _, x := range []struct{ fault, section, name, want string }{
		{"nvmlDeviceGetPowerUsage 3", "power", "power", devices.NotSupported},
		{"nvmlDeviceGetPowerUsage 4", "power", "power", "the library does not permit it: run the collector as root"},
		{"nvmlDeviceGetPowerManagementLimitConstraints 4", "power", "most cap", "does not permit"},
		{"nvmlDeviceGetTemperature 999", "temperature", "temperature", `the library answers "Unknown Error" (999)`},
		{"nvmlDeviceGetTotalEccErrors 3", "errors", "corrected errors of memory, ever", devices.NotSupported},
		{"nvmlDeviceGetRetiredPages 13", "errors", "pages retired for corrected errors", notKnown},
		{"nvmlDeviceGetUtilizationRates 3", "use", "memory busy", devices.NotSupported},
	} {
		tell(t, library, "fault "+x.fault+"\n"+twoGPUs)
		g := &open(t, library).Read().GPUs[0]
		assert.Contains(t, figureOf(t, g, x.section, x.name), x.want, x.fault)
		assert.Equal(t, "1410 MHz", figureOf(t, g, "clocks", "graphics, at most"), x.fault)
	}

	// One GPU falls off the bus while the other answers, whether its handle can still be had or not.
	for _, fault := range []string{"  fault nvmlDeviceGetMemoryInfo 15\n",
		"  fault nvmlDeviceGetHandleByIndex_v2 15\n"} {
		tell(t, library, strings.Replace(twoGPUs, "gpu 1\n", "gpu 1\n"+fault, 1))
		a := open(t, library).Read()
		require.Len(t, a.GPUs, 2, fault)
		if strings.Contains(fault, "Memory") {
			assert.Contains(t, a.GPUs[1].Lost, "the GPU is lost", fault)
			assert.Equal(t, "GPU-b", a.GPUs[1].UUID)
		}
		assert.Empty(t, a.GPUs[0].Lost, fault)
	}
	tell(t, library, twoGPUs)
	l := open(t, library)
	l.Read()
	tell(t, library, strings.Split(twoGPUs, "gpu 1\n")[0]) // it does not answer any more: what it was called is known
	a := l.Read()
	require.Len(t, a.GPUs, 2)
	assert.Equal(t, "GPU-b", a.GPUs[1].UUID)
	assert.Contains(t, a.GPUs[1].Lost, "the GPU is lost")

	tell(t, library, "")
	_, err := Open(library)
	assert.ErrorContains(t, err, "Driver Not Loaded")
	_, err = Open(filepath.Join(t.TempDir(), "none.so"))
	assert.ErrorContains(t, err, "there is no such library")
	_, err = Open("libm.so.6")
	assert.ErrorContains(t, err, "is not a management library of GPUs")
}

// TestLibrary_ThatKnowsLittleTellsThatMuch has a library of three calls.
func TestLibrary_ThatKnowsLittleTellsThatMuch(t *testing.T) {
	source := filepath.Join(t.TempDir(), "small.c")
	require.NoError(t, os.WriteFile(source, []byte("int nvmlInit_v2(void) { return 0; }\n"+
		"int nvmlDeviceGetCount_v2(unsigned *n) { *n = 1; return 0; }\n"+
		"int nvmlDeviceGetHandleByIndex_v2(unsigned i, void **h) { *h = (void *)(long)(i + 1); return 0; }\n"), 0o644))
	a := open(t, built(t, source)).Read()
	require.Len(t, a.GPUs, 1)
	g := &a.GPUs[0]
	assert.Contains(t, a.Missing, "nvmlDeviceGetProcessUtilization")
	assert.Equal(t, []string{notKnown, notKnown, notKnown, notKnown, notKnown},
		[]string{g.BusyMicros.Why, g.MemoryTotal.Why, g.MicroJoules.Why, g.NoUsers, g.NoTimes})
	for _, f := range g.Figures {
		assert.Nil(t, f.Value, "%s, %s", f.Section, f.Name)
		assert.Empty(t, f.Text, "%s, %s", f.Section, f.Name)
		assert.Equal(t, notKnown, f.Why, "%s, %s", f.Section, f.Name)
	}
}

// TestSamples_StandForTheTimeSinceTheOnesBefore lets 3 s pass and then 2 s, and asks once in between too soon.
func TestSamples_StandForTheTimeSinceTheOnesBefore(t *testing.T) {
	library := simulated(t, twoGPUs)
	l := open(t, library)
	at := time.Now().Add(-time.Minute)
	l.now = func() time.Time { return at }
	l.Sample()
	at = at.Add(3 * time.Second)
	l.Sample()
	at = at.Add(500 * time.Millisecond) // nothing new is taken so soon
	g := &l.Read().GPUs[0]
	assert.Equal(t, devices.Figure{N: 2_100_000}, g.BusyMicros)
	assert.Equal(t, []account.EngineTime{{Engine: devices.MainEngine, Micros: 1_200_000},
		{Engine: "decoder", Micros: 600_000}, {Engine: "encoder"}}, g.Users[0].Engines)
	assert.EqualValues(t, 900_000, g.Users[1].Engines[0].Micros, "two samples of one process are one, by their mean")
	assert.Empty(t, g.NoTimes)

	time.Sleep(1100 * time.Millisecond) // so that there are newer samples
	tell(t, library, strings.Replace(strings.Replace(twoGPUs, "sm=40", "sm=0", 1), "busy 70", "busy 10", 1))
	at = at.Add(1500 * time.Millisecond)
	g = &l.Read().GPUs[0]
	assert.Equal(t, devices.Figure{N: 2_300_000}, g.BusyMicros, "two seconds of a tenth")
	assert.EqualValues(t, 1_200_000, g.Users[0].Engines[0].Micros)
	assert.EqualValues(t, 1_000_000, g.Users[0].Engines[1].Micros)

	tell(t, library, "fault nvmlDeviceGetProcessUtilization 4\n"+twoGPUs)
	at = at.Add(2 * time.Second)
	g = &l.Read().GPUs[0]
	assert.Contains(t, g.NoTimes, "does not permit")
	assert.EqualValues(t, 3_700_000, g.BusyMicros.N)
	assert.EqualValues(t, 1_200_000, g.Users[0].Engines[0].Micros, "what was known stays")
}

func helper(t testing.TB, library string, limit time.Duration) *devices.Helper {
	self, err := os.Executable()
	require.NoError(t, err)
	h := devices.NewHelper("", limit, self, "gpu-helper", library)
	t.Cleanup(h.Close)
	return h
}

// TestHelper_ALibraryThatFailsCostsItsOwnFigures: what hangs is given up, what aborts ends the helper, and both are
// said.
func TestHelper_ALibraryThatFailsCostsItsOwnFigures(t *testing.T) {
	library := simulated(t, twoGPUs)
	h := helper(t, library, 5*time.Second)
	a := h.Ask()
	require.Empty(t, a.Why)
	require.Len(t, a.GPUs, 2)

	tell(t, library, "fault nvmlDeviceGetFanSpeed abort\n"+twoGPUs)
	a = h.Ask()
	assert.Contains(t, a.Why, "the library ended its helper: the simulated library was told to abort in "+
		"nvmlDeviceGetFanSpeed; it is asked again in 10s")
	assert.Empty(t, a.GPUs)
	assert.Equal(t, a.Why, h.Ask().Why, "it is not begun again at once")

	tell(t, library, "fault nvmlDeviceGetFanSpeed hang\n"+twoGPUs)
	h = helper(t, library, 300*time.Millisecond)
	var why string
	for range 100 { // until it has begun
		if why = h.Ask().Why; !strings.Contains(why, "still setting up") {
			break
		}
	}
	assert.Contains(t, why, "the library gave no answer within 300ms; it is asked again in 10s")

	tell(t, library, "fault nvmlInit_v2 9\n"+twoGPUs)
	assert.Contains(t, helper(t, library, 5*time.Second).Ask().Why,
		`does not begin: the library answers "Driver Not Loaded" (9)`)

	assert.Equal(t, &devices.LibraryAnswer{}, devices.NewHelper("/nowhere/driver", 0, "/nowhere/helper").Ask(),
		"nothing is begun where there is no driver")
	assert.Contains(t, devices.NewHelper("", 0, "/nowhere/helper").Ask().Why, "its helper cannot be begun")
}

// TestHelper_WhateverTheStateItAnswers cuts the state short anywhere, and has names of 10 kB, negative numbers, and a
// cap outside of its bounds: the helper lives on, and what cannot be is not told.
func TestHelper_WhateverTheStateItAnswers(t *testing.T) {
	library := simulated(t, twoGPUs)
	h := helper(t, library, 10*time.Second)
	require.Empty(t, h.Ask().Why)
	for n := len("driver 550.90\n"); n < len(twoGPUs); n += 23 {
		tell(t, library, twoGPUs[:n])
		require.NotContains(t, h.Ask().Why, "helper", "cut after %d", n)
	}
	long := strings.Repeat("x", 10_000)
	state := strings.NewReplacer("uuid GPU-a", "uuid "+long, "name Cooper Leaf 48", "name "+long,
		"memory.used 9663676416", "memory.used -5", "energy.mj 7200123", "energy.mj 99999999999999999999999",
		"temperature 92", "temperature -40", "busy 70", "busy 4294967295", "cap.mw 300000", "cap.mw 900000",
		"sm=40", "sm=4000").Replace(twoGPUs)
	tell(t, library, state)
	a := h.Ask()
	require.Empty(t, a.Why)
	g := &a.GPUs[0]
	assert.Equal(t, []string{"", ""}, []string{g.UUID, g.Title})
	assert.GreaterOrEqual(t, g.MemoryUsed.N, int64(0))
	assert.Equal(t, impossible, g.MicroJoules.Why)
	assert.Equal(t, impossible, figureOf(t, g, "use", "busy"))
	assert.Equal(t, impossible, figureOf(t, g, "temperature", "temperature"))
	assert.Equal(t, "900 W", figureOf(t, g, "power", "cap"), "it is told as it is")
}

// TestHelper_EndsWithItsCollector: a helper whose questions end ends too, though a call hangs.
func TestHelper_EndsWithItsCollector(t *testing.T) {
	library := simulated(t, "fault nvmlDeviceGetName hang\n"+twoGPUs)
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command(self, "gpu-helper", library)
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	_, _ = in.Write([]byte("\n"))
	require.NoError(t, in.Close())
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	select {
	case <-done:
	case <-time.After(3 * time.Minute):
		_ = cmd.Process.Signal(syscall.SIGKILL)
		require.Fail(t, "the helper goes on")
	}
}

// BenchmarkAsk tells what a reading of 8 GPUs with 200 processes costs through the helper, against the same calls in
// this process; and the memory that the helper takes.
func BenchmarkAsk(b *testing.B) {
	var state strings.Builder
	state.WriteString("driver 550.90\n")
	_, rest, _ := strings.Cut(twoGPUs, "gpu 0\n")
	one, _, _ := strings.Cut(rest, "  process 101")
	for g := range 8 {
		fmt.Fprintf(&state, "gpu %d\n%s", g, one)
		for p := range 25 {
			fmt.Fprintf(&state, "  process %d compute memory=%d sm=3\n", 1000+100*g+p, (p+1)<<20)
		}
	}
	library := simulated(b, state.String())
	l, err := Open(library)
	require.NoError(b, err)
	l.Read()
	bare := time.Duration(1 << 62)
	for range 5 {
		begun := time.Now()
		l.Read()
		bare = min(bare, time.Since(begun))
	}
	h := helper(b, library, 10*time.Second)
	require.Len(b, h.Ask().GPUs, 8)
	least := time.Duration(1 << 62)
	for b.Loop() {
		begun := time.Now()
		h.Ask()
		least = min(least, time.Since(begun))
	}
	b.ReportMetric(float64(least)/float64(bare), "x-bare-calls")
	b.ReportMetric(bare.Seconds()*1e3, "ms-bare")
	b.ReportMetric(least.Seconds()*1e3, "ms-helper")
}
