package identify

import (
	"path"
	"regexp"
	"strconv"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// services recognises units of the init system by the directory named after them.
type services struct{ users *Users }

var ofUser = regexp.MustCompile(`/user-(\d+)\.slice(?:/|$)`)

func (s services) recognise(p string) (account.Workload, bool) {
	unit := path.Base(p)
	name, ok := strings.CutSuffix(unit, ".service")
	if !ok || name == "" || ofUser.MatchString(p) {
		return account.Workload{}, false
	}
	return account.Workload{
		Key: "service:" + p, Kind: amount.Service, Name: unescapeUnit(name), Owner: s.users.Name(0), UID: 0,
	}, true
}

// sessions recognises a user's sign-ins by the directory of their scope, and the user's own service manager.
type sessions struct{ users *Users }

var (
	sessionScope = regexp.MustCompile(`/user-(\d+)\.slice/session-([0-9a-z]+)\.scope$`)
	userManager  = regexp.MustCompile(`/user-(\d+)\.slice/user@\d+\.service$`)
)

func (s sessions) recognise(p string) (account.Workload, bool) {
	if m := sessionScope.FindStringSubmatch(p); m != nil {
		uid, err := strconv.ParseInt(m[1], 10, 64)
		if err != nil {
			return account.Workload{}, false
		}
		owner := s.users.Name(uid)
		return account.Workload{
			Key: "session:" + m[1] + ":" + m[2], Kind: amount.Session, Name: "sign-in " + m[2] + " of " + owner, Owner: owner, UID: uid,
		}, true
	}
	if m := userManager.FindStringSubmatch(p); m != nil {
		uid, err := strconv.ParseInt(m[1], 10, 64)
		if err != nil {
			return account.Workload{}, false
		}
		owner := s.users.Name(uid)
		return account.Workload{
			Key: "session:" + m[1] + ":manager", Kind: amount.Session, Name: "user services of " + owner, Owner: owner, UID: uid,
		}, true
	}
	return account.Workload{}, false
}

// jobs recognises a batch scheduler's jobs by its cgroup names: …/uid_N/job_N.
type jobs struct{ users *Users }

var jobDir = regexp.MustCompile(`/uid_(\d+)/job_(\d+)$`)

func (j jobs) recognise(p string) (account.Workload, bool) {
	m := jobDir.FindStringSubmatch(p)
	if m == nil {
		return account.Workload{}, false
	}
	uid, err := strconv.ParseInt(m[1], 10, 64)
	if err != nil {
		return account.Workload{}, false
	}
	return account.Workload{
		Key: "job:" + m[2], Kind: amount.Job, Name: "job " + m[2], Owner: j.users.Name(uid), UID: uid,
	}, true
}

// recogniseVM recognises virtual machines by the directory the machine manager makes for them.
func recogniseVM(p string) (account.Workload, bool) {
	m := vmDir.FindStringSubmatch(unescapeUnit(p))
	if m == nil {
		return account.Workload{}, false
	}
	return account.Workload{Key: "vm:" + m[1] + "-" + m[2], Kind: amount.VM, Name: m[2], UID: -1}, true
}

var vmDir = regexp.MustCompile(`/(?:machine-)?qemu-(\d+)-([^/]+?)(?:\.scope|\.libvirt-qemu)$`)

var unitEscape = regexp.MustCompile(`\\x[0-9a-f]{2}`)

// unescapeUnit undoes the \xNN escapes of unit names (systemd.unit(5), "String escaping for inclusion in unit names").
func unescapeUnit(s string) string {
	return unitEscape.ReplaceAllStringFunc(s, func(e string) string {
		n, _ := strconv.ParseUint(e[2:], 16, 8)
		return string(rune(n))
	})
}
