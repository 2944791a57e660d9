package identify

import (
	"bufio"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Users knows names by uid from a passwd file (passwd(5)), read again when it changed.
type Users struct {
	path string

	mu     sync.Mutex
	stamp  time.Time
	names  map[int64]string
	byName map[string]int64
}

// NewUsers reads etc/passwd when first asked. A missing file knows nobody.
func NewUsers(etc string) *Users { return &Users{path: filepath.Join(etc, "passwd")} }

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

func (u *Users) refresh() {
	info, err := os.Stat(u.path)
	if err != nil || info.ModTime().Equal(u.stamp) {
		return
	}
	f, err := os.Open(u.path)
	if err != nil {
		return
	}
	defer f.Close()
	u.stamp, u.names, u.byName = info.ModTime(), map[int64]string{}, map[string]int64{}
	for lines := bufio.NewScanner(f); lines.Scan(); {
		fields := strings.Split(lines.Text(), ":")
		if len(fields) < 3 {
			continue
		}
		uid, err := strconv.ParseInt(fields[2], 10, 64)
		if err != nil {
			continue
		}
		if _, taken := u.names[uid]; !taken { // the first line of a uid is its name, as getpwuid(3) has it
			u.names[uid] = fields[0]
		}
		u.byName[fields[0]] = uid
	}
}
