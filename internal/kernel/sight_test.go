package kernel_test

import (
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vinescale/internal/kernel"
)

func TestSight_TellsWhatAProcessDoesByItsOwnFiles(t *testing.T) {
	sleeper := exec.Command("sleep", "60")
	require.NoError(t, sleeper.Start())
	pid := int32(sleeper.Process.Pid)
	require.NoError(t, unix.Setpriority(unix.PRIO_PROCESS, int(pid), 7))
	var g kernel.Sight
	require.Eventually(t, func() bool {
		var is bool
		g, is = kernel.SightOf("/proc", pid, true)
		return is && g.State == 'S' && g.Comm == "sleep"
	}, 3*time.Minute, 10*time.Millisecond)
	assert.Equal(t, 7, g.Nice)
	assert.Equal(t, pid, g.ID)
	assert.EqualValues(t, 1, g.Threads)
	assert.Contains(t, g.Program, "/")
	assert.Positive(t, g.Start)
	threads := kernel.SightsOfThreads("/proc", pid, true)
	require.Len(t, threads, 1)
	assert.Equal(t, "sleep", threads[0].Comm)
	elsewhere, is := kernel.SightOf("/proc", pid, false)
	assert.True(t, is)
	assert.Zero(t, elsewhere.Nice, "that of another host's process is not this kernel's to tell")

	require.NoError(t, sleeper.Process.Kill())
	_ = sleeper.Wait() // it was killed
	_, is = kernel.SightOf("/proc", pid, true)
	assert.False(t, is)
	assert.Empty(t, kernel.SightsOfThreads("/proc", pid, true))
}

func TestSight_TimesAreThoseInProgramsAndInTheKernel(t *testing.T) {
	burner := exec.Command("sh", "-c", "while :; do :; done")
	require.NoError(t, burner.Start())
	t.Cleanup(func() { _ = burner.Process.Kill(); _ = burner.Wait() })
	require.Eventually(t, func() bool {
		g, is := kernel.SightOf("/proc", int32(burner.Process.Pid), true)
		return is && g.User >= 200*time.Millisecond && g.User > g.System
	}, 3*time.Minute, 20*time.Millisecond)
}
