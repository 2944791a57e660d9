package devices

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Host is a host's devices, by the tree in which its kernel shows them.
type Host struct {
	sys    string
	meters []meter // found last
	reason string  // why there are none
	gpus   gpus
}

// Options for Open.
type Options struct {
	Sys     string  // where the tree of devices is: /sys, or a staged one
	Proc    string  // where the tree of processes is
	Library Library // a vendor's, that tells of GPUs; nil for none
	// Node is the device number of a file below /dev; nil asks the host's own.
	Node func(path string) (major, minor uint32)
}

// Open begins to read a host's devices.
func Open(o Options) *Host {
	if o.Node == nil {
		o.Node = nodeNumber
	}
	return &Host{sys: o.Sys, gpus: gpus{library: o.Library, nodes: o.Node, drm: drmClients{proc: o.Proc,
		known: map[int32]*opener{}, state: map[clientKey]*clientState{}}}}
}

// Close ends what was begun to ask a library.
func (h *Host) Close() {
	if h.gpus.library != nil {
		h.gpus.library.Close()
	}
}

// below lists what a directory holds, in order; nothing where it is not there.
func below(dir string) []string {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil
	}
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	return names
}

// numbered lists the directories below dir whose names are a word and a number, by that number.
func numbered(dir, word string) []string {
	var names []string
	for _, name := range below(dir) {
		if n, ok := strings.CutPrefix(name, word); ok && isNumber(n) {
			names = append(names, name)
		}
	}
	slices.SortFunc(names, func(a, b string) int {
		if len(a) != len(b) {
			return len(a) - len(b)
		}
		return strings.Compare(a, b)
	})
	return names
}

func isNumber(s string) bool {
	return s != "" && strings.Trim(s, "0123456789") == ""
}

// mostText is how many bytes of a file are read: no file of a sensor has more.
const mostText = 4096

// text is a file's content on one line; "" where it cannot be read.
func text(file string) string {
	s, _ := read(file)
	return s
}

func read(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	b := make([]byte, mostText)
	n, err := f.Read(b)
	if n > 0 {
		err = nil
	}
	return strings.ToValidUTF8(strings.TrimSpace(string(b[:max(n, 0)])), "\uFFFD"), err
}

// number is a file's content as a number.
func number(file string) (int64, error) {
	s, err := read(file)
	if err != nil {
		return 0, err
	}
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil {
		return 0, errGarbage
	}
	return n, nil
}

var errGarbage = errors.New("its file holds no number")

// whyNot says in words why a file has no figure.
func whyNot(err error) string {
	switch {
	case errors.Is(err, os.ErrPermission):
		return "it may be read by root alone"
	case errors.Is(err, os.ErrNotExist):
		return "it was taken away while it was read"
	case errors.Is(err, errGarbage):
		return errGarbage.Error()
	}
	var errno unix.Errno
	if errors.As(err, &errno) {
		return "its device answers " + unix.ErrnoName(errno) + " (" + errno.Error() + ")"
	}
	return err.Error()
}

// resolved is where a path leads when all links are followed; "" where it leads nowhere.
func resolved(path string) string {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return ""
	}
	return real
}
