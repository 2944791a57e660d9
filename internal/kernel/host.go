package kernel

import (
	"fmt"
	"time"

	"vinescale/core/account"
)

// readHost reads the host's own totals, and the clocks beside the CPU counters.
func (r *Reader) readHost(dst *account.Reading) error {
	if r.count%r.options.RecheckEvery == 1 {
		clear(r.disks)
		clear(r.ifaces)
	}
	dst.Wall, dst.Mono = r.options.Clock()
	b, err := r.proc.read(r.proc.at("stat"))
	if err != nil {
		return fmt.Errorf("read %s/stat: %w", r.proc.root, err)
	}
	var ok bool
	if dst.CPUs, ok = parseCPUs(b, dst.CPUs[:0]); !ok {
		return fmt.Errorf("read %s/stat: %w", r.proc.root, errGarbage)
	}
	r.readRan(dst)
	if b, err = r.proc.read(r.proc.at("uptime")); err != nil {
		return fmt.Errorf("read %s/uptime: %w", r.proc.root, err)
	}
	r.cpuNumbers = r.cpuNumbers[:0]
	for i := range dst.CPUs {
		r.cpuNumbers = append(r.cpuNumbers, dst.CPUs[i].CPU)
	}
	seconds, _ := field(b)
	up, ok := hundredths(seconds)
	if !ok {
		return fmt.Errorf("read %s/uptime: %w", r.proc.root, errGarbage)
	}
	dst.Uptime = time.Duration(up*100+0.5) * 10 * time.Millisecond
	if b, err = r.proc.read(r.proc.at("meminfo")); err != nil {
		return fmt.Errorf("read %s/meminfo: %w", r.proc.root, err)
	}
	if dst.Memory, ok = parseMeminfo(b); !ok {
		return fmt.Errorf("read %s/meminfo: %w", r.proc.root, errGarbage)
	}
	r.cpus, r.memory = len(dst.CPUs), dst.Memory.Total
	dst.Load = dst.Load[:0]
	if b, err = r.proc.read(r.proc.at("loadavg")); err == nil {
		if load, ok := parseLoad(b); ok {
			dst.Load = append(dst.Load, load[:]...)
		}
	}
	r.readPressure(dst)
	r.readDisks(dst)
	r.readInterfaces(dst)
	return nil
}

func (r *Reader) readPressure(dst *account.Reading) {
	dst.Pressure = dst.Pressure[:0]
	for _, name := range []string{"cpu", "memory", "io"} {
		b, err := r.proc.read(r.proc.at("pressure", name))
		if err != nil {
			continue // kernels without pressure information have no such file
		}
		if some, full, ok := parsePressure(b); ok {
			dst.Pressure = append(dst.Pressure, account.Pressure{Resource: name, Some: some, Full: full})
		}
	}
}
