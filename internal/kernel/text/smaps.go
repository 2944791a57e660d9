package text

import (
	"bytes"
	"strconv"
)

// Mapping is a part of a process's address space.
type Mapping struct {
	Start, Size              uintptr // bytes
	writable                 bool
	file                     string // "" for none
	anonymousKiB, SwappedKiB int64
}

// EachMapping visits the mappings in what /proc/PID/smaps tells (the kernel's "The /proc Filesystem"): a line with
// addresses, permissions, offset, device, inode and name, then one for each figure.
func EachMapping(smaps []byte, visit func(Mapping)) {
	var m Mapping
	for len(smaps) > 0 {
		var l []byte
		l, smaps = Line(smaps)
		name, value, found := bytes.Cut(l, []byte{':'})
		if from, to, ok := addresses(l); ok {
			if m.Size > 0 {
				visit(m)
			}
			m = Mapping{Start: from, Size: to - from}
			fields := bytes.Fields(l)
			m.writable = len(fields) > 1 && len(fields[1]) > 1 && fields[1][1] == 'w'
			if i := bytes.IndexByte(l, '/'); len(fields) > 5 && i >= 0 {
				m.file = string(l[i:])
			}
			continue
		}
		if !found {
			continue
		}
		switch string(name) {
		case "Anonymous":
			m.anonymousKiB = kib(value)
		case "Swap":
			m.SwappedKiB = kib(value)
		}
	}
	if m.Size > 0 {
		visit(m)
	}
}

// addresses reads the range at the head of a mapping.
func addresses(l []byte) (from, to uintptr, ok bool) {
	span, _, _ := bytes.Cut(l, []byte{' '})
	a, b, found := bytes.Cut(span, []byte{'-'})
	if !found {
		return 0, 0, false
	}
	start, err1 := strconv.ParseUint(string(a), 16, 64)
	end, err2 := strconv.ParseUint(string(b), 16, 64)
	return uintptr(start), uintptr(end), err1 == nil && err2 == nil && end > start
}

// kib reads a figure such as "  12 kB"; -1 where it is none.
func kib(b []byte) int64 {
	digits, _, _ := bytes.Cut(bytes.TrimSpace(b), []byte{' '})
	if n, ok := Number(digits); ok {
		return n
	}
	return -1
}

// UnwrittenMappings are those of a file that cannot be written and have no page of their own.
func UnwrittenMappings(smaps []byte, file string) (found []Mapping) {
	EachMapping(smaps, func(m Mapping) {
		if m.file == file && !m.writable && m.anonymousKiB == 0 && m.SwappedKiB == 0 {
			found = append(found, m)
		}
	})
	return found
}
