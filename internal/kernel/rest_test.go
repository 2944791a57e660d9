package kernel_test

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/identify"
	"vinescale/internal/kernel"
)

// TestResting_FilesAreReadWhereSomethingRan holds a reader to when it looks at the files of a group's CPU time: what
// stands there tells whether it did.
func TestResting_FilesAreReadWhereSomethingRan(t *testing.T) {
	h := newHistory(t)
	const press, inner, must = "/system.slice/press.service", "/system.slice/press.service/pump",
		"/system.slice/must.service"
	var tasks [3]*task
	for i, path := range []string{press, inner, must} {
		tasks[i] = h.born(h.tasks[1])
		h.move(tasks[i], path)
		h.run(tasks[i], i%2, 1000)
	}
	reader, err := kernel.Open(identify.NewRegistry(identify.Options{Roots: identify.Roots{Etc: h.dir, Run: h.dir,
		Proc: filepath.Join(h.dir, "proc")}}), kernel.Options{
		Roots: kernel.Roots{Proc: filepath.Join(h.dir, "proc"), Sys: filepath.Join(h.dir, "sys"),
			Cgroup: filepath.Join(h.dir, "sys/fs/cgroup")},
		Counters: h, RecheckEvery: 1000,
		Clock: func() (time.Time, time.Duration) { return time.Unix(1e9, 0).Add(h.now), h.now }})
	require.NoError(t, err)
	t.Cleanup(reader.Close)
	shown := int64(0)
	read := func() (cpu, user map[string]int64) { // what stands in the files is another number at each reading
		h.show()
		shown++
		for path := range h.groups {
			if path != "" {
				h.write("sys/fs/cgroup"+path+"/cpu.stat", fmt.Sprintf("usage_usec %d\nuser_usec %d\n", shown, shown*10))
			}
		}
		var reading account.Reading
		require.NoError(t, reader.Read(&reading))
		h.now += 5 * time.Second
		cpu, user = map[string]int64{}, map[string]int64{}
		for _, g := range reading.Groups {
			name := reader.Registry().Workload(g.Workload).Name
			require.NotZero(t, g.Has&account.HasCPU, name)
			cpu[name] = g.CPUMicros
			user[name], _ = g.Figures.Get(amount.CPUUser)
		}
		return cpu, user
	}
	of := func(press, must int64) map[string]int64 { return map[string]int64{"press": press, "must": must} }
	check := func(want map[string]int64, why string) {
		t.Helper()
		cpu, user := read()
		for name, n := range want {
			require.Equal(t, n, cpu[name], "%s: %s", why, name)
			require.Equal(t, n*10, user[name], "%s: user time of %s", why, name)
		}
	}
	check(of(1, 1), "the first reading reads all")
	check(of(1, 1), "nothing ran")
	h.run(tasks[2], 1, 1)
	check(of(1, 3), "it ran for a microsecond on the other CPU")
	h.run(tasks[1], 0, 5)
	check(of(4, 3), "what ran is within it")
	h.now += time.Minute
	check(of(4, 3), "a minute later user time is what it was")
	h.unplaced++
	check(of(6, 6), "it is not known who ran")
	check(of(6, 6), "and now it is again")
	h.mute = true
	check(of(8, 8), "nothing is told")
	h.mute = false
	check(of(9, 9), "what is told again may have been before")
	check(of(9, 9), "nothing ran since")
}
