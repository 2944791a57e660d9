package kernel

import (
	"fmt"
	"time"

	"vinescale/core/account"
	"vinescale/internal/kernel/bpf"
	"vinescale/internal/kernel/text"
)

// readHost reads the host's own totals, and the clocks beside the CPU counters.
func (r *Reader) readHost(dst *account.Reading) error {
	if r.count%r.options.RecheckEvery == 1 {
		clear(r.storage.disks)
		clear(r.net.ifaces)
	}
	dst.Wall, dst.Mono = r.options.Clock()
	if r.counting(bpf.CPU) == nil { // else with what is counted in the kernel
		if err := r.readCPUs(dst); err != nil {
			return err
		}
	}
	b, err := r.proc.Read(r.proc.At("uptime"))
	if err != nil {
		return fmt.Errorf("read %s/uptime: %w", r.proc.Root, err)
	}
	seconds, _ := text.Field(b)
	up, ok := text.Hundredths(seconds)
	if !ok {
		return fmt.Errorf("read %s/uptime: %w", r.proc.Root, text.ErrGarbage)
	}
	dst.Uptime = time.Duration(up*100+0.5) * 10 * time.Millisecond
	if b, err = r.proc.Read(r.proc.At("meminfo")); err != nil {
		return fmt.Errorf("read %s/meminfo: %w", r.proc.Root, err)
	}
	if dst.Memory, ok = text.ParseMeminfo(b); !ok {
		return fmt.Errorf("read %s/meminfo: %w", r.proc.Root, text.ErrGarbage)
	}
	r.host.memory = dst.Memory.Total
	dst.Load = dst.Load[:0]
	if b, err = r.proc.Read(r.proc.At("loadavg")); err == nil {
		if load, ok := text.ParseLoad(b); ok {
			dst.Load = append(dst.Load, load[:]...)
		}
	}
	r.readPressure(dst)
	r.readDisks(dst)
	r.readInterfaces(dst)
	return nil
}

// readCPUs reads where the time of each CPU went, until now: the reading is of this moment.
func (r *Reader) readCPUs(dst *account.Reading) error {
	dst.Wall, dst.Mono = r.options.Clock()
	b, err := r.proc.Read(r.proc.At("stat"))
	if err != nil {
		return fmt.Errorf("read %s/stat: %w", r.proc.Root, err)
	}
	var ok bool
	if dst.CPUs, ok = text.ParseCPUs(b, dst.CPUs[:0]); !ok {
		return fmt.Errorf("read %s/stat: %w", r.proc.Root, text.ErrGarbage)
	}
	r.host.cpus, r.host.cpuNumbers = len(dst.CPUs), r.host.cpuNumbers[:0]
	for i := range dst.CPUs {
		r.host.cpuNumbers = append(r.host.cpuNumbers, dst.CPUs[i].CPU)
	}
	r.readRan(dst)
	return nil
}

func (r *Reader) readPressure(dst *account.Reading) {
	dst.Pressure = dst.Pressure[:0]
	for _, name := range []string{"cpu", "memory", "io"} {
		b, err := r.proc.Read(r.proc.At("pressure", name))
		if err != nil {
			continue // kernels without pressure information have no such file
		}
		if some, full, ok := text.ParsePressure(b); ok {
			dst.Pressure = append(dst.Pressure, account.Pressure{Resource: name, Some: some, Full: full})
		}
	}
}
