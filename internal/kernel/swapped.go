package kernel

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/internal/kernel/text"
	"vinescale/internal/kernel/tree"
)

// Where there is more than one swap, on which of them a process's pages are is read from its page tables: of one
// process not again before swappedEvery readings, and not for longer than swappedWithin in one reading, but for the
// last.
const (
	swappedEvery  = 60
	swappedWithin = 20 * time.Millisecond
)

// swappedOn is what a process had on each swap at its last look.
type swappedOn struct {
	at    int64             // reading
	parts []account.Swapped // of no workload
}

// readSwapped tells on which of several swaps workloads' pages are.
func (r *Reader) readSwapped(dst *account.Reading) {
	dst.Swapped = dst.Swapped[:0]
	if r.slow {
		r.host.swaps = nil
		if b, err := r.proc.Read(r.proc.At("swaps")); err == nil {
			r.host.swaps = text.ParseSwaps(b)
		}
	}
	if len(r.host.swaps) < 2 || !r.options.Ask || !r.host.seesFrames {
		return
	}
	begun := time.Now()
	for i := range dst.Processes {
		a := &dst.Processes[i]
		if a.Kernel || a.Ended || a.Workload == account.Unrecognised || a.SwapBytes == 0 {
			continue
		}
		p := r.tasks.procs[a.PID]
		if (p.swapped == nil || r.count-p.swapped.at >= swappedEvery) && time.Since(begun) < swappedWithin {
			p.swapped = &swappedOn{r.count, r.lookSwapped(a.PID)}
		}
		if p.swapped == nil {
			continue
		}
		for _, part := range p.swapped.parts {
			part.Workload = a.Workload
			dst.Swapped = append(dst.Swapped, part)
		}
	}
}

// lookSwapped counts a process's swapped pages by swap, in bytes. It looks at those areas that smaps says have some
// ("/proc/PID/smaps" and "Examining Process Page Tables" of the kernel's documentation); nil where that may not be
// read.
//
// The kernel numbers swaps in the order of /proc/swaps, but goes on with the old numbers where one was switched off: a
// number past the last listed, or more on a swap than it holds, tells of that, and nothing is said.
func (r *Reader) lookSwapped(pid int32) (parts []account.Swapped) {
	smaps, err := r.proc.Read(r.proc.AtPID(pid, "smaps"))
	if err != nil {
		return nil
	}
	var areas []text.Mapping
	text.EachMapping(smaps, func(m text.Mapping) {
		if m.SwappedKiB > 0 {
			areas = append(areas, m)
		}
	})
	if len(areas) == 0 {
		return nil
	}
	table, err := os.Open(filepath.Join(r.proc.Root, strconv.Itoa(int(pid)), "pagemap"))
	if err != nil {
		return nil
	}
	defer table.Close()
	counts := make([]int64, len(r.host.swaps))
	buf := make([]byte, 8<<10)
	for _, a := range areas {
		at, end := int64(a.Start/uintptr(r.options.PageSize))*8, int64((a.Start+a.Size)/uintptr(r.options.PageSize))*8
		for at < end {
			n, err := table.ReadAt(buf[:min(int64(len(buf)), end-at)], at)
			for e := buf[:n&^7]; len(e) > 0; e = e[8:] {
				if swap, ok := swappedPage(binary.NativeEndian.Uint64(e)); ok {
					if swap >= len(counts) {
						return nil
					}
					counts[swap] += r.options.PageSize
				}
			}
			if err != nil || n < 8 {
				break
			}
			at += int64(n &^ 7)
		}
	}
	for k, bytes := range counts {
		if bytes > r.host.swaps[k].SizeBytes {
			return nil
		}
		if bytes > 0 {
			parts = append(parts, account.Swapped{Swap: r.host.swaps[k].Name, Bytes: bytes})
		}
	}
	return parts
}

// seesFrames tells whether this process may see where pages are (CAP_SYS_ADMIN): to others the kernel shows zeros.
func seesFrames(proc *tree.Tree) bool {
	b, err := proc.Read(proc.At("self/status"))
	if err != nil {
		return false
	}
	for len(b) > 0 {
		var l []byte
		l, b = text.Line(b)
		if set, ok := bytes.CutPrefix(l, []byte("CapEff:")); ok {
			n, err := strconv.ParseUint(string(bytes.TrimSpace(set)), 16, 64)
			return err == nil && n&(1<<unix.CAP_SYS_ADMIN) != 0
		}
	}
	return false
}

// swappedPage reads an entry of a page table: bit 62 says that the page is swapped, bits 0 to 4 to which swap.
func swappedPage(entry uint64) (swap int, ok bool) {
	const present, swapped = 1 << 63, 1 << 62
	return int(entry & 31), entry&present == 0 && entry&swapped != 0
}
