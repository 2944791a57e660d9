package explain

import "vinescale/core/amount"

// NoSpace is why the space that the files of a workload of a kind take is not told.
func NoSpace(kind amount.Kind) string {
	switch kind {
	case amount.Container:
		return "it has no writable layer or root directory of its own that its collector sees, or one with more " +
			"files than are walked: a project quota on it would count them"
	case amount.VM:
		return "it has no file and no device open for writing that its collector sees"
	}
	return "its files are on filesystems it shares with others, which count by user and project, not by cgroup"
}
