package kernel

import (
	"fmt"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// diskKind is how a block device stands to others.
type diskKind uint8

const (
	unseen    diskKind = iota // not looked at yet
	wholeDisk                 // has hardware, or a hypervisor, behind it
	innerDisk                 // a volume or a loop on others: its bytes are theirs too
	partDisk                  // a partition of one
	noDisk                    // never used: an empty loop, a memory disk
)

func (r *Reader) readDisks(dst *account.Reading) {
	dst.Disks = dst.Disks[:0]
	r.diskNumbers = r.diskNumbers[:0]
	b, err := r.proc.read(r.proc.at("diskstats"))
	if err != nil {
		dst.Unavailable[amount.Disk] = fmt.Sprintf("cannot read %s/diskstats: %v", r.proc.root, err)
		return
	}
	// The visit below looks into /sys, whose tree has a buffer of its own: b stays valid.
	for len(b) > 0 {
		var l []byte
		l, b = line(b)
		d, name, ok := diskLine(l)
		if !ok {
			continue
		}
		kind := r.diskKind(name)
		if kind == noDisk {
			continue
		}
		if kind != wholeDisk && d.ReadOps+d.WriteOps == 0 {
			r.unused[r.intern(name)] = r.count
			continue
		}
		d.Name = r.intern(name)
		if seen, ok := r.unused[d.Name]; ok {
			d.Fresh = seen == r.count-1
			delete(r.unused, d.Name)
		}
		d.Inner, d.Partition = kind != wholeDisk, kind == partDisk
		if !d.Inner {
			d.RateBytesPerSecond = r.options.DiskRates[d.Name]
			r.diskNumbers = append(r.diskNumbers, [2]uint32{d.Major, d.Minor})
		}
		dst.Disks = append(dst.Disks, d)
	}
}

// diskKind tells a whole device with hardware behind it from those whose bytes count there too (the kernel's
// sysfs-block).
func (r *Reader) diskKind(name []byte) diskKind {
	kind := r.disks[string(name)]
	if kind != unseen {
		return kind
	}
	switch s := string(name); {
	case r.sys.exists(r.sys.at("block", s, "device")):
		kind = wholeDisk
	case len(s) > 3 && (s[:3] == "ram" || s[:4] == "zram"):
		kind = noDisk
	case !r.sys.exists(r.sys.at("block", s)):
		kind = partDisk
	default:
		kind = innerDisk
	}
	r.disks[string(name)] = kind
	return kind
}

// isDiskNumber tells a whole device by its number, as cgroup files name devices.
func (r *Reader) isDiskNumber(major, minor uint32) bool {
	for i := range r.diskNumbers {
		if r.diskNumbers[i] == [2]uint32{major, minor} {
			return true
		}
	}
	return false
}
