package text

import (
	"bytes"
	"strconv"
	"strings"

	"vinescale/core/account"
)

// Mount is a line of mountinfo.
type Mount struct {
	ID       int64
	Device   int32
	Root     string // of the filesystem, what is mounted: "/" for the whole
	At, Kind string
	Options  string // of the filesystem, as it tells them
}

// ParseMounts reads a mountinfo file (proc_pid_mountinfo(5)).
func ParseMounts(b []byte) (mounts []Mount) {
	for len(b) > 0 {
		var l []byte
		l, b = Line(b)
		fields := bytes.Fields(l)
		if len(fields) < 9 {
			continue
		}
		major, minor, ok := DeviceNumber(fields[2])
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
		id, _ := Number(fields[0])
		m := Mount{ID: id, Device: int32(major<<20 | minor), Root: UnescapeOctal(string(fields[3])),
			At: UnescapeOctal(string(fields[4])), Kind: strings.ToValidUTF8(string(fields[dash+1]), "")}
		if dash+3 < len(fields) {
			m.Options = string(fields[dash+3])
		}
		mounts = append(mounts, m)
	}
	return mounts
}

// UnescapeOctal undoes \040 and its kin.
func UnescapeOctal(s string) string {
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

// ParseSwaps reads /proc/swaps (proc_swaps(5)); sizes are in KiB.
func ParseSwaps(b []byte) (swaps []account.Swap) {
	_, b = Line(b) // its heading
	for len(b) > 0 {
		var l []byte
		l, b = Line(b)
		fields := bytes.Fields(l)
		if len(fields) < 4 {
			continue
		}
		size, ok1 := Number(fields[2])
		used, ok2 := Number(fields[3])
		if !ok1 || !ok2 || size > 1<<50 || used > 1<<50 {
			continue
		}
		swaps = append(swaps, account.Swap{Name: UnescapeOctal(string(fields[0])),
			Kind: strings.ToValidUTF8(string(fields[1]), ""), SizeBytes: size << 10, UsedBytes: used << 10})
	}
	return swaps
}

// DeviceNumber reads MAJOR:MINOR.
func DeviceNumber(b []byte) (major, minor uint32, ok bool) {
	ma, mi, found := bytes.Cut(b, []byte{':'})
	a, ok1 := Number(ma)
	i, ok2 := Number(mi)
	if !found || !ok1 || !ok2 || a > 1<<12 || i > 1<<20 {
		return 0, 0, false
	}
	return uint32(a), uint32(i), true
}
