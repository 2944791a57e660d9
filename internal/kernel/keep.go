package kernel

import (
	"golang.org/x/sys/unix"
)

// The files of a cgroup that are kept open, by their place in group.files.
const (
	keptCPU = iota
	keptMemory
	keptIO
	keptFiles
)

// mostKept is how many files may be kept open at most: half of what this process may open.
func mostKept() int {
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil {
		return 0
	}
	return int(min(limit.Cur/2, 1<<20))
}

// leave gives up what is held of a cgroup that is no more.
func (r *Reader) leave(g *group) {
	for i := range g.files {
		if g.files[i] > 0 {
			r.cgroups.keptOpen--
		}
	}
	g.close()
}

func (g *group) close() {
	for i := range g.files {
		g.drop(i)
	}
}

func (g *group) drop(slot int) {
	if fd := g.files[slot]; fd > 0 {
		unix.Close(int(fd - 1))
		g.files[slot] = 0
	}
}
