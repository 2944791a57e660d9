package kernel

import (
	"bytes"
	"strconv"
)

// mapping is a part of a process's address space.
type mapping struct {
	start, size              uintptr // bytes
	writable                 bool
	file                     string // "" for none
	anonymousKiB, swappedKiB int64
}

// eachMapping visits the mappings in what /proc/PID/smaps tells (the kernel's "The /proc Filesystem"): a line with
// addresses, permissions, offset, device, inode and name, then one for each figure.
func eachMapping(smaps []byte, visit func(mapping)) {
	var m mapping
	for len(smaps) > 0 {
		var l []byte
		l, smaps = line(smaps)
		name, value, found := bytes.Cut(l, []byte{':'})
		if from, to, ok := addresses(l); ok {
			if m.size > 0 {
				visit(m)
			}
			m = mapping{start: from, size: to - from}
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
			m.swappedKiB = kib(value)
		}
	}
	if m.size > 0 {
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
	if n, ok := number(digits); ok {
		return n
	}
	return -1
}

// unwrittenMappings are those of a file that cannot be written and have no page of their own.
func unwrittenMappings(smaps []byte, file string) (found []mapping) {
	eachMapping(smaps, func(m mapping) {
		if m.file == file && !m.writable && m.anonymousKiB == 0 && m.swappedKiB == 0 {
			found = append(found, m)
		}
	})
	return found
}
