package identify

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Begun is a piece of work that was begun on a host by this very program, in cgroups of its own: what is known of it
// before it runs. Its file is below /run, where only root writes.
type Begun struct {
	Name    string `json:"name"`
	Mark    int64  `json:"mark"` // tells it from an earlier one of the same name
	UID     int64  `json:"uid"`
	Tenant  string `json:"tenant,omitempty"`
	Command string `json:"command"`
}

// BegunGroup is the cgroup in which such work is, in each hierarchy.
func BegunGroup(name string) string { return "/vinescale/" + begunPrefix + name }

const begunPrefix = "begun-"

// BegunName is what such work may be called: it names a directory.
var BegunName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)

func begunFile(run, name string) string { return filepath.Join(run, "vinescale/begun", name+".json") }

// Write writes down what is known of work that is about to begin; the error is os.ErrExist where there is some of that
// name already.
func (b *Begun) Write(run string) error {
	file := begunFile(run, b.Name)
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	text, err := json.Marshal(b)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Close())
}

// Remove forgets work that is over.
func (b *Begun) Remove(run string) error { return os.Remove(begunFile(run, b.Name)) }

// begun recognises work that this program began.
type begun struct {
	run   string
	users *Users
}

// BegunRecogniser is how work is said to be recognised that this program began.
const BegunRecogniser = "begun by vinescale"

func (x begun) recognise(p string) (account.Workload, bool) {
	name, is := strings.CutPrefix(path.Base(p), begunPrefix)
	if !is || p != BegunGroup(name) {
		return account.Workload{}, false
	}
	var b Begun
	if readJSON(begunFile(x.run, name), &b) != nil || b.Name != name {
		return account.Workload{}, false
	}
	w := account.Workload{Key: fmt.Sprintf("job:begun:%s@%d", name, b.Mark), Kind: amount.Job, Name: name,
		Owner: x.users.Name(b.UID), UID: b.UID, Labels: map[string]string{},
		Facts: map[string]string{
			account.FactOrder: b.Command,
			account.FactWhy: "begun with vinescale start, as its file " +
				"below /run says; mark " + strconv.FormatInt(b.Mark, 10),
		}}
	if b.Tenant != "" {
		w.Labels[TenantLabel] = b.Tenant
	}
	return w, true
}

// TenantLabel names the tenant that work was begun for.
const TenantLabel = "vinescale.tenant"
