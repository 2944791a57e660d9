package kernel

import (
	"fmt"

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
)

func (r *Reader) readDisks(dst *account.Reading) {
	dst.Disks = dst.Disks[:0]
	r.storage.diskNumbers = r.storage.diskNumbers[:0]
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
		if kind == noDisk {
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
}

// diskKind tells a whole device with hardware behind it from those whose bytes count there too (the kernel's
// sysfs-block).
func (r *Reader) diskKind(name []byte) diskKind {
	kind := r.storage.disks[string(name)]
	if kind != unseen {
		return kind
	}
	switch s := string(name); {
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
