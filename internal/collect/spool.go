package collect

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
)

// Spool keeps encoded batches in a directory, one file each, until they are committed.
//
// A file is written beside its name, synced and then renamed: after a crash it is there whole or not at all. Beside
// them stands one that is still being added to, which is written anew at every tick: so an end of the collector costs
// nothing that it had read, and an end of the host no more than was not yet written down.
type Spool struct {
	dir  string
	lock *os.File
}

// OpenSpool opens or makes a spool. The error says when another collector uses it.
func OpenSpool(dir string) (*Spool, error) {
	if err := os.MkdirAll(filepath.Join(dir, "refused"), 0o700); err != nil {
		return nil, fmt.Errorf("make the spool: %w; name another place with --spool", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the spool: %w", err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return nil,
			fmt.Errorf("the spool %s is in use by another collector: stop it, or name another place with --spool", dir)
	}
	s := &Spool{dir, lock}
	leftovers, _ := filepath.Glob(filepath.Join(dir, "*.part"))
	for _, f := range leftovers {
		os.Remove(f)
	}
	return s, nil
}

// Close gives up the spool.
func (s *Spool) Close() error { return s.lock.Close() }

func (s *Spool) file(sequence uint64) string {
	return filepath.Join(s.dir, fmt.Sprintf("%020d.batch", sequence))
}

// write puts content in the place of a file, whole or not at all.
func write(name string, content []byte, sync bool) error {
	f, err := os.OpenFile(name+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err == nil && sync {
		err = f.Sync()
	}
	err = errors.Join(err, f.Close())
	if err == nil {
		err = os.Rename(name+".part", name)
	}
	if err != nil {
		os.Remove(name + ".part")
	}
	return err
}

func (s *Spool) open() string { return filepath.Join(s.dir, "open") }

// KeepOpen keeps the batch that is still being added to, in the place of the one it was before.
func (s *Spool) KeepOpen(batch []byte) error { return write(s.open(), batch, false) }

// Open returns the batch that was being added to when a collector ended before its time; nil where there is none.
func (s *Spool) Open() ([]byte, error) {
	b, err := os.ReadFile(s.open())
	if os.IsNotExist(err) {
		return nil, nil
	}
	return b, err
}

// DropOpen drops it.
func (s *Spool) DropOpen() error {
	if err := os.Remove(s.open()); !os.IsNotExist(err) {
		return err
	}
	return nil
}

// Shut keeps a batch under its sequence in the place of the one that was being added to: at every moment the one or the
// other is there, and never both.
func (s *Spool) Shut(sequence uint64, batch []byte) error {
	if err := write(s.open(), batch, true); err != nil {
		return err
	}
	if err := os.Rename(s.open(), s.file(sequence)); err != nil {
		return err
	}
	return s.sync()
}

func (s *Spool) base() string     { return filepath.Join(s.dir, "base") }
func (s *Spool) nextBase() string { return filepath.Join(s.dir, "base.next") }

// NextBase keeps what a collector read last, beside what it had read before.
func (s *Spool) NextBase(content []byte) error { return write(s.nextBase(), content, false) }

// ShiftBase puts what NextBase kept last in the place of what was there before.
func (s *Spool) ShiftBase() error { return os.Rename(s.nextBase(), s.base()) }

// Bases are what a collector read last, older first, as far as they are there.
func (s *Spool) Bases() (bases [][]byte, err error) {
	for _, name := range []string{s.base(), s.nextBase()} {
		b, err := os.ReadFile(name)
		switch {
		case err == nil:
			bases = append(bases, b)
		case !os.IsNotExist(err):
			return nil, err
		}
	}
	return bases, nil
}

// Put keeps a batch under its sequence.
func (s *Spool) Put(sequence uint64, batch []byte) error {
	if err := write(s.file(sequence), batch, true); err != nil {
		return err
	}
	return s.sync()
}

// sync makes names that were given last.
func (s *Spool) sync() error {
	d, err := os.Open(s.dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// List returns the sequences kept, oldest first.
func (s *Spool) List() ([]uint64, error) {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return nil, err
	}
	var sequences []uint64
	for _, e := range entries {
		if n, ok := strings.CutSuffix(e.Name(), ".batch"); ok {
			if seq, err := strconv.ParseUint(n, 10, 64); err == nil {
				sequences = append(sequences, seq)
			}
		}
	}
	slices.Sort(sequences)
	return sequences, nil
}

// Get returns a batch.
func (s *Spool) Get(sequence uint64) ([]byte, error) { return os.ReadFile(s.file(sequence)) }

// Remove drops a batch that is committed.
func (s *Spool) Remove(sequence uint64) error { return os.Remove(s.file(sequence)) }

// Refuse sets aside a batch that the service will never take, for a person to look at.
func (s *Spool) Refuse(sequence uint64) error {
	return os.Rename(s.file(sequence), filepath.Join(s.dir, "refused", filepath.Base(s.file(sequence))))
}
