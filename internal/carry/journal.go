package carry

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"time"

	"vinescale/core/act"
)

// journal remembers on disk what was carried out: an act that comes again is not done again, and what one changed can
// be put back by the act's number alone, so that the service need not be trusted with what is written where.
type journal struct{ dir string }

// record is one act in the journal. Outcome is nil while it is being carried out.
type record struct {
	ID       string
	Request  act.Request
	Identity string
	Begun    time.Time
	Values   []change
	Touched  []act.Touched
	Outcome  *act.Outcome
	Undone   bool
}

// mostRecords and keptFor bound the journal. An act may be undone for as long as it is kept.
const (
	mostRecords = 2000
	keptFor     = 7 * 24 * time.Hour
)

func openJournal(dir string) (journal, error) {
	if dir == "" {
		return journal{}, errors.New("no directory is given for the journal of acts")
	}
	return journal{dir}, os.MkdirAll(dir, 0o700)
}

// soundID is what the number of an act may look like: it names a file.
var soundID = regexp.MustCompile(`^[A-Za-z0-9-]{1,64}$`)

func (j *journal) file(id string) (string, error) {
	if !soundID.MatchString(id) {
		return "", fmt.Errorf("%q is no number of an act", id)
	}
	return filepath.Join(j.dir, id+".json"), nil
}

// find returns what is known of an act; nil for nothing.
func (j *journal) find(id string) (*record, error) {
	file, err := j.file(id)
	if err != nil {
		return nil, err
	}
	b, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var r record
	return &r, json.Unmarshal(b, &r)
}

// put writes a record so that it is there whole after a crash, or as it was before.
func (j *journal) put(r *record) error {
	file, err := j.file(r.ID)
	if err != nil {
		return err
	}
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(j.dir, "put-*")
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), file)
	}
	if err != nil {
		os.Remove(f.Name())
		return err
	}
	if d, err := os.Open(j.dir); err == nil {
		_ = d.Sync() // the name may be lost with the host's power; the act then counts as not known
		d.Close()
	}
	j.prune()
	return nil
}

func (j *journal) markUndone(id string) {
	if r, err := j.find(id); err == nil && r != nil {
		r.Undone = true
		_ = j.put(r) // where it fails, undoing again finds that the values are others
	}
}

// prune drops what is older than is kept.
func (j *journal) prune() {
	files, _ := filepath.Glob(filepath.Join(j.dir, "*.json"))
	type aged struct {
		file string
		at   time.Time
	}
	var list []aged
	for _, f := range files {
		if info, err := os.Stat(f); err == nil {
			list = append(list, aged{f, info.ModTime()})
		}
	}
	slices.SortFunc(list, func(a, b aged) int { return b.at.Compare(a.at) })
	for i, x := range list {
		if i >= mostRecords || time.Since(x.at) > keptFor {
			os.Remove(x.file)
		}
	}
}
