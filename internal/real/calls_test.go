package real

import (
	"net"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vinescale/internal/kernel/bpf"
)

// TestCalls_OfOneProcessAreCountedToTheLast: another makes the same calls at the same time, which are not told.
func TestCalls_OfOneProcessAreCountedToTheLast(t *testing.T) {
	require.Zero(t, os.Geteuid(), "this test counts in the kernel: run it as root")
	traced, other := hire(t, nil, 0), hire(t, nil, 0)
	dir := open(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "there"), nil, 0o644))
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	_, port, err := net.SplitHostPort(listener.Addr().String())
	require.NoError(t, err)

	trace, err := bpf.OpenTrace(int32(traced.cmd.Process.Pid))
	require.NoError(t, err)
	defer trace.Close()
	other.do("calls 500 %s %s", dir, port)
	traced.do("calls 12345 %s %s", dir, port)
	other.do("calls 500 %s %s", dir, port)
	calls, reached, lost, err := trace.Seen()
	require.NoError(t, err)
	assert.Zero(t, lost)
	of := func(name string) bpf.Call {
		i := slices.IndexFunc(calls, func(c bpf.Call) bool { return c.Name == name })
		require.NotEqual(t, -1, i, name)
		return calls[i]
	}
	assert.EqualValues(t, 12345, of("getppid").Times)
	assert.Zero(t, of("getppid").Failed)
	pause := of("clock_nanosleep")
	assert.EqualValues(t, 3, pause.Times)
	assert.GreaterOrEqual(t, pause.Took, 150*time.Millisecond)
	assert.GreaterOrEqual(t, pause.Longest, pause.Took/3)
	assert.EqualValues(t, []any{int64(3), int64(1)}, []any{of("openat").Times, of("openat").Failed})
	assert.EqualValues(t, 1, of("connect").Times)
	assert.Equal(t, 1, of("read").UnderWay, "it waits for its next order")
	assert.Equal(t, []bpf.Reach{{File: dir + "/there"}, {File: dir + "/gone", Failed: unix.ENOENT},
		{File: dir + "/there"}, {To: "127.0.0.1:" + port}}, reached)

	traced.do("calls 55 %s %s", dir, port)
	calls, _, _, err = trace.Seen()
	require.NoError(t, err)
	assert.EqualValues(t, 12400, of("getppid").Times, "it goes on")
}
