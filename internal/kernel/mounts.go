package kernel

import (
	"bytes"
	"strconv"
	"strings"

	"vinescale/core/account"
)

// mount is a line of mountinfo.
type mount struct {
	id       int64
	device   int32
	root     string // of the filesystem, what is mounted: "/" for the whole
	at, kind string
	options  string // of the filesystem, as it tells them
}

// parseMounts reads a mountinfo file (proc_pid_mountinfo(5)).
func parseMounts(b []byte) (mounts []mount) {
	for len(b) > 0 {
		var l []byte
		l, b = line(b)
		fields := bytes.Fields(l)
		if len(fields) < 9 {
			continue
		}
		major, minor, ok := deviceNumber(fields[2])
		dash := -1
		for i := 6; i < len(fields); i++ {
			if string(fields[i]) == "-" {
				dash = i
				break
			}
		}
		if !ok || dash < 0 || dash+1 >= len(fields) {
			continue
		}
		id, _ := number(fields[0])
		m := mount{id: id, device: int32(major<<20 | minor), root: unescapeOctal(string(fields[3])),
			at: unescapeOctal(string(fields[4])), kind: strings.ToValidUTF8(string(fields[dash+1]), "")}
		if dash+3 < len(fields) {
			m.options = string(fields[dash+3])
		}
		mounts = append(mounts, m)
	}
	return mounts
}

// unescapeOctal undoes \040 and its kin.
func unescapeOctal(s string) string {
	var out strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+3 < len(s) {
			if n, err := strconv.ParseUint(s[i+1:i+4], 8, 8); err == nil {
				out.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		out.WriteByte(s[i])
	}
	return strings.ToValidUTF8(out.String(), "\ufffd")
}

// parseSwaps reads /proc/swaps (proc_swaps(5)); sizes are in KiB.
func parseSwaps(b []byte) (swaps []account.Swap) {
	_, b = line(b) // its heading
	for len(b) > 0 {
		var l []byte
		l, b = line(b)
		fields := bytes.Fields(l)
		if len(fields) < 4 {
			continue
		}
		size, ok1 := number(fields[2])
		used, ok2 := number(fields[3])
		if !ok1 || !ok2 || size > 1<<50 || used > 1<<50 {
			continue
		}
		swaps = append(swaps, account.Swap{Name: unescapeOctal(string(fields[0])),
			Kind: strings.ToValidUTF8(string(fields[1]), ""), SizeBytes: size << 10, UsedBytes: used << 10})
	}
	return swaps
}

// deviceNumber reads MAJOR:MINOR.
func deviceNumber(b []byte) (major, minor uint32, ok bool) {
	ma, mi, found := bytes.Cut(b, []byte{':'})
	a, ok1 := number(ma)
	i, ok2 := number(mi)
	if !found || !ok1 || !ok2 || a > 1<<12 || i > 1<<20 {
		return 0, 0, false
	}
	return uint32(a), uint32(i), true
}
