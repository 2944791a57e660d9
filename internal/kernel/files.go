package kernel

import (
	"bytes"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/kernel/space"
	"vinescale/internal/kernel/text"
	"vinescale/internal/kernel/tree"
)

// The space that a workload's files take is known of a container with a writable layer or a root directory of its own,
// by its project quota or by walking it, and of a virtual machine by the images it has open. A layer is walked once an
// hour, some entries at a time, and given up where it is too big: each look at an entry may cost the host an operation
// on storage.
const (
	walkAgain     = time.Hour
	walkAtOnce    = 1_000
	mostImages    = 1_000 // descriptors of a virtual machine that are looked at
	holderPerSlow = 200   // new holders that are looked at in one reading
	rootLooks     = 3     // for where a container's root comes from
)

// errNoQuota says that a directory is in no project that is counted.
var errNoQuota = errors.New("in no project of which the space is counted")

// holder is a workload of which the space may be known.
type holder struct {
	pid     int32
	start   int64
	machine bool
	dir     string // where its own files begin, as the host's first process sees it; "" where that is not known
	looks   int    // for dir, so far
	seen    int64
	quota   bool // its project is counted
	known   bool
	space   account.Files
	due     time.Duration // when it is to be walked, where no project is counted
}

// readFiles adds what is known of the space that workloads' files take.
func (r *Reader) readFiles(dst *account.Reading) {
	dst.Levels = dst.Levels[:0]
	if r.slow {
		r.storage.sameMounts = r.hasHostsMounts()
		r.findHolders(dst)
		r.askHolders()
	}
	r.walkOn(dst.Mono)
	for w, h := range r.storage.holders {
		if !h.known {
			continue
		}
		source := amount.Summed
		if h.quota {
			source = amount.Counted
		}
		put := func(m amount.Measure, units int64) {
			dst.Levels = append(dst.Levels, account.Standing{Workload: w, Measure: m, Units: units, Source: source})
		}
		put(amount.SpaceUsed, h.space.Bytes)
		put(amount.SpaceFiles, h.space.Count)
		if h.space.LimitBytes > 0 {
			put(amount.SpaceLimit, h.space.LimitBytes)
		}
	}
}

// walkOn looks at some entries more of the layers that are to be walked, one layer after the other.
func (r *Reader) walkOn(now time.Duration) {
	for left := walkAtOnce; left > 0; {
		if r.storage.walk == nil {
			for _, h := range r.storage.holders {
				if h.dir != "" && !h.quota && !h.machine && now >= h.due {
					r.storage.walk, r.storage.walked = space.OpenWalk(r.onHost(h.dir)), h
					break
				}
			}
		}
		if r.storage.walk == nil {
			return
		}
		var done bool
		if left, done = r.storage.walk.Step(left); done {
			h := r.storage.walked
			h.due, h.known = now+walkAgain, r.storage.walk.Err == nil
			h.space = account.Files{Bytes: r.storage.walk.Bytes, Count: r.storage.walk.Files}
			r.stopWalk()
		}
		left-- // a directory that cannot be opened costs something too
	}
}

// stopWalk lets go of the walk that is under way.
func (r *Reader) stopWalk() {
	r.storage.walk.Close()
	r.storage.walk, r.storage.walked = nil, nil
}

// findHolders takes up containers and machines that are new, and lets go of those whose process has gone.
func (r *Reader) findHolders(dst *account.Reading) {
	fresh := holderPerSlow
	var mounts []text.Mount
	for i := range dst.Processes {
		p := &dst.Processes[i]
		if p.Ended || p.Kernel || p.Workload == account.Unrecognised || r.storage.holdsNone[p.Workload] {
			continue
		}
		h := r.storage.holders[p.Workload]
		switch {
		case h == nil:
			kind := r.registry.Workload(p.Workload).Kind
			if kind != amount.Container && kind != amount.VM {
				r.storage.holdsNone[p.Workload] = true
				continue
			}
			if fresh--; fresh < 0 {
				return // the others at the next slow reading: nobody is let go meanwhile
			}
			h = &holder{pid: p.PID, start: p.Start, machine: kind == amount.VM}
			r.storage.holders[p.Workload] = h
		case h.seen == r.count || h.pid != p.PID || h.start != p.Start:
			continue // it is known by another of its processes
		}
		h.seen = r.count
		if h.machine || h.dir != "" || h.looks >= rootLooks {
			continue
		}
		h.looks++ // a container that has just begun may not have its root yet
		if mounts == nil {
			mounts = r.hostMounts()
		}
		if b, err := r.proc.Read(r.proc.AtPID(p.PID, "mountinfo")); err == nil {
			h.dir = space.OwnFiles(b, mounts)
		}
	}
	for w, h := range r.storage.holders {
		if h.seen < r.count {
			if r.storage.walked == h {
				r.stopWalk()
			}
			delete(r.storage.holders, w)
			r.forgetTaps(w) // another may be given their names
		}
	}
}

// hostMounts are the mounts that the host's first process sees.
func (r *Reader) hostMounts() []text.Mount {
	b, err := r.proc.Read(r.proc.At("1/mountinfo"))
	if err != nil {
		return []text.Mount{}
	}
	return text.ParseMounts(b)
}

// askHolders reads the quotas of layers and the sizes of images. Of a directory that two share neither is told.
func (r *Reader) askHolders() {
	dirs := map[string]int{}
	for _, h := range r.storage.holders {
		dirs[h.dir]++
	}
	ask := r.options.Quota
	if ask == nil {
		ask = r.projectQuota
	}
	for w, h := range r.storage.holders {
		switch {
		case h.machine:
			r.lookTaps(h.pid, w) // it may have been given another
			h.space, h.known = r.images(h.pid)
		case h.dir == "":
		case dirs[h.dir] > 1:
			h.known, h.quota, h.due = false, false, 1<<63-1
		default:
			q, err := ask(h.dir)
			switch {
			case err == nil:
				h.space, h.known, h.quota = q, true, true
			case h.quota: // it is in no project any more
				h.known, h.quota, h.due = false, false, 0
			}
		}
	}
}

// onHost is a path as the host's first process sees it. Where its root may not be entered, but it has the same mounts
// as this process, the path is the same: mounts of another namespace have other numbers (proc_pid_mountinfo(5)).
func (r *Reader) onHost(path string) string {
	if r.storage.sameMounts && r.options.Ask {
		return path
	}
	return filepath.Join(r.proc.Root, "1/root", path)
}

// hasHostsMounts tells whether this process sees the mounts of the host's first process, all of them.
func (r *Reader) hasHostsMounts() bool {
	first, err := r.proc.Read(r.proc.At("1/mountinfo"))
	if err != nil || len(first) == 0 {
		return false
	}
	first = bytes.Clone(first)
	own, err := r.proc.Read(r.proc.At("self/mountinfo"))
	return err == nil && bytes.Equal(first, own)
}

// projectQuota asks the filesystem what the project of a directory has (quotactl_fd(2), Linux 5.14; the project's
// number by ioctl_xfs_fsgetxattr(2)).
func (r *Reader) projectQuota(dir string) (account.Files, error) {
	fd, err := unix.Open(r.onHost(dir), unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC|unix.O_NOFOLLOW|unix.O_NONBLOCK,
		0)
	if err != nil {
		return account.Files{}, err
	}
	defer unix.Close(fd)
	project, err := space.ProjectOf(fd)
	if err != nil || project == 0 {
		return account.Files{}, errNoQuota
	}
	return space.QuotaOf(fd, project)
}

// images adds up the space of files and block devices that a virtual machine has open for writing: a file by what is
// allocated of it, a device whole.
func (r *Reader) images(pid int32) (account.Files, bool) {
	var q account.Files
	seen := map[[2]uint64]bool{}
	looked := 0
	kinds := map[int64]string{} // of filesystems, by mount
	if b, err := r.proc.Read(r.proc.AtPID(pid, "mountinfo")); err == nil {
		for _, m := range text.ParseMounts(b) {
			kinds[m.ID] = m.Kind
		}
	}
	err := r.proc.List(r.proc.AtPID(pid, "fd"), r.tasks.listing, func(e tree.Entry) {
		// the first three are where it writes its messages
		if fd, ok := text.Number(e.Name); !ok || fd < 3 || looked >= mostImages {
			return
		}
		looked++
		fd := string(e.Name)
		b, err := r.proc.Read(r.proc.AtPID(pid, "fdinfo/"+fd))
		// in memory, such as the file that holds its number
		if err != nil || !text.Writable(b) || strings.HasSuffix(kinds[text.MountOf(b)], "tmpfs") {
			return
		}
		var st unix.Statx_t // as it is known here: a server of its file is not asked
		if unix.Statx(r.proc.FD, strconv.Itoa(int(pid))+"/fd/"+fd, unix.AT_STATX_DONT_SYNC, unix.STATX_BASIC_STATS,
			&st) != nil {
			return
		}
		id := [2]uint64{uint64(st.Dev_major)<<32 | uint64(st.Dev_minor), st.Ino}
		switch st.Mode & unix.S_IFMT {
		case unix.S_IFREG:
		case unix.S_IFBLK:
			id = [2]uint64{1 << 63, uint64(st.Rdev_major)<<32 | uint64(st.Rdev_minor)}
		default:
			return
		}
		if seen[id] {
			return
		}
		seen[id] = true
		q.Count++
		if st.Mode&unix.S_IFMT == unix.S_IFREG {
			q.Bytes += int64(st.Blocks) * 512
			return
		}
		if n, ok := text.Number([]byte(r.line(fmt.Sprintf("dev/block/%d:%d/size", st.Rdev_major,
			st.Rdev_minor)))); ok &&
			n < 1<<50 {
			q.Bytes += n * 512
		}
	})
	return q, err == nil && len(seen) > 0
}
