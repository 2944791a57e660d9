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

func (s services) recognise(p string) (account.Workload, bool) {
	unit := unescapeUnit(path.Base(p))
	name, ok := strings.CutSuffix(unit, ".service")
	if !ok || name == "" || sliceOfUser.MatchString(p) {
		return account.Workload{}, false
	}
	w := account.Workload{
		Key: "service:" + p, Kind: amount.Service, Name: name, Owner: s.users.Name(0), UID: 0,
		Facts: map[string]string{account.FactUnit: unit},
	}
	// systemd.unit(5): an instance's unit is named after its template, with the instance after the @.
	if template, instance, ok := strings.Cut(name, "@"); ok && instance != "" {
		w.Facts[account.FactTemplate], w.Facts[account.FactInstance] = template+"@.service", instance
	}
	return w, true
}

var unitEscape = regexp.MustCompile(`\\x[0-9a-f]{2}`)

// unescapeUnit undoes the \xNN escapes of unit names (systemd.unit(5), "String escaping for inclusion in unit names").
func unescapeUnit(s string) string {
	return unitEscape.ReplaceAllStringFunc(s, func(e string) string {
		n, _ := strconv.ParseUint(e[2:], 16, 8)
		return string(rune(n))
	})
}
