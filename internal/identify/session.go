package identify

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"
	"os"
	"regexp"
	"strconv"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// sessions recognises a user's sign-ins: by the directory the init system makes for each, and elsewhere by the audit
// session that PAM opens, which a process keeps whoever it becomes (proc_pid_sessionid(5), proc_pid_loginuid(5)).
type sessions struct {
	users *Users
	boot  string
}

var (
	sessionScope = regexp.MustCompile(`/user-(\d+)\.slice/session-([0-9a-z]+)\.scope$`)
	userManager  = regexp.MustCompile(`/user-(\d+)\.slice/user@\d+\.service$`)
)

func (s sessions) byPath(p string) (account.Workload, bool) {
	number, kind := "", sessionScope.FindStringSubmatch(p)
	if kind == nil {
		if kind = userManager.FindStringSubmatch(p); kind == nil {
			return account.Workload{}, false
		}
	} else {
		number = kind[2]
	}
	uid, err := strconv.ParseInt(kind[1], 10, 64)
	if err != nil {
		return account.Workload{}, false
	}
	owner := s.users.Name(uid)
	if number == "" {
		return account.Workload{
			Key: "session:" + kind[1] + ":manager", Kind: amount.Session, Name: "user services of " + owner,
			Owner: owner, UID: uid,
		}, true
	}
	return s.signIn(number, uid), true
}

func (s sessions) signIn(number string, uid int64) account.Workload {
	owner := s.users.Name(uid)
	return account.Workload{
		Key: "session:" + s.boot + ":" + number, Kind: amount.Session, Name: "sign-in " + number + " of " + owner,
		Owner: owner, UID: uid,
		Facts: map[string]string{factSession: number},
	}
}

// factSession is the audit session's number.
const factSession = "session"

func (s sessions) byProcess(p *Process, inside account.Workload) (account.Workload, bool) {
	if p.Session < 0 || p.LoginUID < 0 || inside.Kind == amount.Session && inside.Key != "" {
		return account.Workload{}, false
	}
	w := s.signIn(strconv.FormatInt(p.Session, 10), p.LoginUID)
	w.Outer, w.Facts[account.FactWhy] = inside.Key, "audit session and login uid"
	return w, true
}

// parseLoginUID reads a loginuid or sessionid file; all ones stand for none.
func parseLoginUID(b []byte) int64 {
	n, err := strconv.ParseUint(strings.TrimSpace(string(b)), 10, 32)
	if err != nil || n == 1<<32-1 {
		return NoUser
	}
	return int64(n)
}

// utmp tells the terminal and the origin of sign-ins, where the host keeps the file (utmp(5)).
type utmp struct{ file, proc string }

func (u *utmp) Name() string { return u.file }

func (u *utmp) Knows(w account.Workload) bool {
	return w.Kind == amount.Session && w.Facts[factSession] != "" && w.Facts[account.FactTerminal] == ""
}

// signInRecord is a struct utmp of a 64-bit host, 384 bytes (utmp(5)).
type signInRecord struct {
	Type    int16
	_       int16
	PID     int32
	Line    [32]byte
	ID      [4]byte
	User    [32]byte
	Host    [256]byte
	_       [4]byte
	Session int32
	_       [8]byte
	Address [16]byte
	_       [20]byte
}

const userProcess = 7

func (u *utmp) Ask(_ context.Context, about []account.Workload) (map[string]account.Workload, error) {
	raw, err := os.ReadFile(u.file)
	if err != nil {
		return nil, nil // a host need not keep it, and sign-ins have their names without it
	}
	found := map[string]account.Workload{}
	for _, r := range parseUtmp(raw) {
		b, err := os.ReadFile(fmt.Sprintf("%s/%d/sessionid", u.proc, r.PID))
		if err != nil {
			continue
		}
		number := strconv.FormatInt(parseLoginUID(b), 10)
		for _, w := range about {
			if w.Facts[factSession] == number {
				found[w.Key] = account.Workload{UID: -1,
					Facts: map[string]string{account.FactTerminal: text(r.Line[:]), account.FactOrigin: r.origin()}}
			}
		}
	}
	return found, nil
}

func parseUtmp(raw []byte) []signInRecord {
	var out []signInRecord
	for in := bytes.NewReader(raw); ; {
		var r signInRecord
		if err := binary.Read(in, binary.LittleEndian, &r); err != nil {
			return out
		}
		if r.Type == userProcess && r.PID > 0 {
			out = append(out, r)
		}
	}
}

func (r *signInRecord) origin() string {
	if host := text(r.Host[:]); host != "" {
		return host
	}
	if bytes.Equal(r.Address[4:], make([]byte, 12)) {
		if a := netip.AddrFrom4([4]byte(r.Address[:4])); !a.IsUnspecified() {
			return a.String()
		}
		return ""
	}
	return netip.AddrFrom16(r.Address).String()
}

func text(b []byte) string {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return sound(string(b))
}
