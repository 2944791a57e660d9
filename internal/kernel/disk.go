package kernel

import (
	"fmt"
	"regexp"
	"slices"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/kernel/text"
)

// diskKind is how a block device stands to others.
type diskKind uint8

const (
	unseen    diskKind = iota // not looked at yet
	wholeDisk                 // has hardware, or a hypervisor, behind it
	innerDisk                 // a volume or a loop on others: its bytes are theirs too
	partDisk                  // a partition of one
	noDisk                    // never used: an empty loop, a memory disk
	wayDisk                   // one of the ways to a drive: its bytes are the drive's
)

func (r *Reader) readDisks(dst *account.Reading) {
	dst.Disks = dst.Disks[:0]
	r.storage.diskNumbers = r.storage.diskNumbers[:0]
	var ways []account.Disk
	b, err := r.proc.Read(r.proc.At("diskstats"))
	if err != nil {
		dst.Unavailable[amount.Disk] = fmt.Sprintf("cannot read %s/diskstats: %v", r.proc.Root, err)
		return
	}
	// The visit below looks into /sys, whose tree has a buffer of its own: b stays valid.
	for len(b) > 0 {
		var l []byte
		l, b = text.Line(b)
		d, name, ok := text.DiskLine(l)
		if !ok {
			continue
		}
		kind := r.diskKind(name)
		switch kind {
		case noDisk:
			continue
		case wayDisk:
			d.Name = r.intern(name)
			ways = append(ways, d)
			continue
		}
		if kind != wholeDisk && d.ReadOps+d.WriteOps == 0 {
			r.storage.unused[r.intern(name)] = r.count
			continue
		}
		d.Name = r.intern(name)
		if seen, ok := r.storage.unused[d.Name]; ok {
			d.Fresh = seen == r.count-1
			delete(r.storage.unused, d.Name)
		}
		d.Inner, d.Partition = kind != wholeDisk, kind == partDisk
		if !d.Inner {
			d.RateBytesPerSecond = r.options.DiskRates[d.Name]
			r.storage.diskNumbers = append(r.storage.diskNumbers, [2]uint32{d.Major, d.Minor})
		}
		dst.Disks = append(dst.Disks, d)
	}
	r.joinWays(dst.Disks, ways)
}

// joinWays finds the drives that ways lead to. Before Linux 6.3 a drive that may have several counts nothing itself,
// and has the sum of what they count.
func (r *Reader) joinWays(disks, ways []account.Disk) {
	counts := map[string]bool{}
	for _, way := range ways {
		i := slices.IndexFunc(disks, func(d account.Disk) bool { return d.Name == driveOf(way.Name) })
		if i < 0 {
			continue
		}
		d := &disks[i]
		if r.storage.ways == nil {
			r.storage.ways = map[[2]uint32][2]uint32{}
		}
		r.storage.ways[[2]uint32{way.Major, way.Minor}] = [2]uint32{d.Major, d.Minor}
		if _, met := counts[d.Name]; !met {
			counts[d.Name] = d.ReadOps+d.WriteOps+d.Discards+d.Flushes > 0
		}
		if !counts[d.Name] {
			d.AddWay(&way)
		}
	}
}

// driveOf is the drive that an NVMe way leads to, by how the kernel names both: nvme2c5n1 is a way to nvme2n1, by the
// controller 5. It is "" for any other name.
func driveOf(name string) string {
	m := wayName.FindStringSubmatch(name)
	if m == nil {
		return ""
	}
	return m[1] + m[2]
}

var wayName = regexp.MustCompile(`^(nvme\d+)c\d+(n\d+)$`)

// drive is the number of the device that another's bytes count on, as one way to it; its own for any other.
func (r *Reader) drive(major, minor uint32) (uint32, uint32) {
	if at, isWay := r.storage.ways[[2]uint32{major, minor}]; isWay {
		return at[0], at[1]
	}
	return major, minor
}

// diskKind tells a whole device with hardware behind it from those whose bytes count there too (the kernel's
// sysfs-block).
func (r *Reader) diskKind(name []byte) diskKind {
	kind := r.storage.disks[string(name)]
	if kind != unseen {
		return kind
	}
	switch s := string(name); {
	case driveOf(s) != "" && r.line("block/"+s+"/hidden") == "1" && r.sys.Exists(r.sys.At("block", driveOf(s))):
		kind = wayDisk
	case r.sys.Exists(r.sys.At("block", s, "device")):
		kind = wholeDisk
	case len(s) > 3 && (s[:3] == "ram" || s[:4] == "zram"):
		kind = noDisk
	case !r.sys.Exists(r.sys.At("block", s)):
		kind = partDisk
	default:
		kind = innerDisk
	}
	r.storage.disks[string(name)] = kind
	return kind
}

// isDiskNumber tells a whole device by its number, as cgroup files name devices.
func (r *Reader) isDiskNumber(major, minor uint32) bool {
	for i := range r.storage.diskNumbers {
		if r.storage.diskNumbers[i] == [2]uint32{major, minor} {
			return true
		}
	}
	return false
}
