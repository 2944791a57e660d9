package identify

import (
	"os"
	"path"
	"regexp"
	"strconv"
	"strings"
	"syscall"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// engine recognises containers by the 64-digit id that engines name cgroups after, where no runtime's state is
// readable: the id alone (the plain driver), or in a scope with the engine's prefix (the init system's driver).
type engine struct{ users *Users }

var (
	engineDir = regexp.MustCompile(`^(?:[a-z][a-z-]*-)?([0-9a-f]{64})(?:\.scope)?$`)
	someID    = regexp.MustCompile(`^[0-9a-f]{64}$`)

	// A pod's directory holds those of its containers: named pod<uid> under a node agent, by a 64-digit id under an
	// engine that makes pods itself.
	podDir = regexp.MustCompile(
		`(?:^|-)pod([0-9a-f]{8}[-_][0-9a-f]{4}[-_][0-9a-f]{4}[-_][0-9a-f]{4}[-_][0-9a-f]{12}|` +
			`[0-9a-f]{32})(?:\.slice)?$`)
	enginePodDir = regexp.MustCompile(`^(?:machine-)?[a-z]+_pod_([0-9a-f]{64})\.slice$`)
)

func isID(s string) bool { return someID.MatchString(s) }

func (e engine) recognise(p string) (account.Workload, bool) {
	m := engineDir.FindStringSubmatch(path.Base(p))
	if m == nil {
		return account.Workload{}, false
	}
	w := account.Workload{Key: "container:" + m[1], Kind: amount.Container, Name: m[1][:12], UID: -1}
	if id, ok := podOf(path.Dir(p)); ok {
		w.Outer = "pod:" + id
	}
	return w, true
}

// podOf is the id of the pod whose directory p is.
func podOf(p string) (id string, ok bool) {
	name := path.Base(p)
	if m := podDir.FindStringSubmatch(name); m != nil {
		return strings.ReplaceAll(m[1], "_", "-"), true
	}
	if m := enginePodDir.FindStringSubmatch(name); m != nil {
		return m[1], true
	}
	if isID(name) && strings.HasSuffix(path.Base(path.Dir(p)), "_parent") {
		return name, true
	}
	return "", false
}

var sliceOfUser = regexp.MustCompile(`/user-(\d+)\.slice(?:/|$)`)

// uidOfSlice is the user in whose slice of the init system a cgroup lies.
func uidOfSlice(p string) (int64, bool) {
	m := sliceOfUser.FindStringSubmatch(p)
	if m == nil {
		return 0, false
	}
	uid, err := strconv.ParseInt(m[1], 10, 64)
	return uid, err == nil
}

func inodeOf(info os.FileInfo) uint64 {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return st.Ino
	}
	return 0
}
