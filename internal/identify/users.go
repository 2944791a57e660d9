package identify

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Users knows names by uid and groups by user from passwd(5) and group(5), read again when they changed.
type Users struct {
	passwd, group string

	mu                sync.Mutex
	stamp, groupStamp time.Time
	names             map[int64]string
	byName            map[string]int64
	primary           map[int64]int64     // uid -> gid
	groupNames        map[int64]string    // by gid
	members           map[string][]string // user -> groups that list them
}

// NewUsers reads etc/passwd and etc/group when first asked. A missing file knows nobody.
func NewUsers(etc string) *Users {
	return &Users{passwd: filepath.Join(etc, "passwd"), group: filepath.Join(etc, "group")}
}

// Name is a user's name, or "uid N" where the host has no name for it.
func (u *Users) Name(uid int64) string {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.refresh()
	if name, ok := u.names[uid]; ok {
		return name
	}
	return "uid " + strconv.FormatInt(uid, 10)
}

// UID is a user's number; ok is false for a name the host does not have.
func (u *Users) UID(name string) (uid int64, ok bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.refresh()
	uid, ok = u.byName[name]
	return uid, ok
}

// Credential is what a process runs as that runs as a user: his groups are those that list him.
func (u *Users) Credential(name string) (*syscall.Credential, error) {
	uid, ok := u.UID(name)
	if !ok {
		return nil, fmt.Errorf("this host has no user %q", name)
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	c := &syscall.Credential{Uid: uint32(uid), Gid: uint32(u.primary[uid])}
	for gid, group := range u.groupNames {
		if slices.Contains(u.members[name], group) {
			c.Groups = append(c.Groups, uint32(gid))
		}
	}
	return c, nil
}

// Groups are the names of the groups a user is in, sorted.
func (u *Users) Groups(uid int64) []string {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.refresh()
	groups := slices.Clone(u.members[u.names[uid]])
	if gid, ok := u.primary[uid]; ok {
		if name, ok := u.groupNames[gid]; ok {
			groups = append(groups, name)
		}
	}
	slices.Sort(groups)
	return slices.Compact(groups)
}

func (u *Users) refresh() {
	eachLine(u.passwd, &u.stamp, func() {
		u.names, u.byName, u.primary = map[int64]string{}, map[string]int64{}, map[int64]int64{}
	}, func(fields []string) {
		uid, err := strconv.ParseInt(fields[2], 10, 64)
		if err != nil {
			return
		}
		if _, taken := u.names[uid]; !taken { // the first line of a uid is its name, as getpwuid(3) has it
			u.names[uid] = fields[0]
			if len(fields) > 3 {
				if gid, err := strconv.ParseInt(fields[3], 10, 64); err == nil {
					u.primary[uid] = gid
				}
			}
		}
		u.byName[fields[0]] = uid
	})
	eachLine(u.group, &u.groupStamp, func() {
		u.groupNames, u.members = map[int64]string{}, map[string][]string{}
	}, func(fields []string) {
		gid, err := strconv.ParseInt(fields[2], 10, 64)
		if err != nil {
			return
		}
		u.groupNames[gid] = fields[0]
		if len(fields) > 3 {
			for member := range strings.SplitSeq(fields[3], ",") {
				if member != "" {
					u.members[member] = append(u.members[member], fields[0])
				}
			}
		}
	})
}

// eachLine visits the lines of a file of colon-separated fields, three or more, if it changed since stamp.
func eachLine(path string, stamp *time.Time, begin func(), visit func(fields []string)) {
	info, err := os.Stat(path)
	if err != nil || info.ModTime().Equal(*stamp) {
		return
	}
	f, err := os.Open(path)
	if err != nil {
		return
	}
	defer f.Close()
	*stamp = info.ModTime()
	begin()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if fields := strings.Split(lines.Text(), ":"); len(fields) >= 3 {
			visit(fields)
		}
	}
}
