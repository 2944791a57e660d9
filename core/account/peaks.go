package account

import "strconv"

// PartPeak is the highest tick of one figure of one of the host's parts. A tick in which the figure was nothing has
// none.
type PartPeak struct {
	Figure string // its name in the register of figures of parts
	Part   string // the drive, interface or GPU by its name; a CPU by its number
	Milli  int64  // thousandths of the figure's unit
}

func (p *PartPeak) key() [2]string { return [2]string{p.Figure, p.Part} }

// The units of a tick's figures, each as so many thousandths of its own.
const (
	perSecond = 1000 * 1000 // of what is divided by milliseconds
	inPercent = 1000 * 100
	inMean    = 1000
)

// HighestPeak is the most that a peak may be, in thousandths of any unit: a petabyte a second.
const HighestPeak = 1e18

// partPeaks is what each part of the host had in a tick of so many milliseconds.
func partPeaks(d *Detail, elapsed int64) []PartPeak {
	peaks := make([]PartPeak, 0, 4*(len(d.Disks)+len(d.Interfaces)+len(d.GPUs))+3*len(d.CPUs))
	add := func(figure, part string, over, per, scale int64) {
		if per <= 0 || over <= 0 {
			return
		}
		v, most := float64(over)*float64(scale)/float64(per), float64(HighestPeak)
		if scale == inPercent {
			most = inPercent // two clocks
		}
		peaks = append(peaks, PartPeak{figure, part, int64(min(v, most))})
	}
	for i := range d.Disks {
		x := &d.Disks[i]
		add("drive_busy_percent", x.Name, x.BusyMillis, elapsed, inPercent)
		add("drive_queue", x.Name, x.QueueMillis, elapsed, inMean)
		add("drive_latency_ms", x.Name, x.ReadMillis+x.WriteMillis, x.ReadOps+x.WriteOps, inMean)
		add("drive_read_bytes", x.Name, x.ReadBytes, elapsed, perSecond)
		add("drive_written_bytes", x.Name, x.WrittenBytes, elapsed, perSecond)
		add("drive_reads", x.Name, x.ReadOps, elapsed, perSecond)
		add("drive_writes", x.Name, x.WriteOps, elapsed, perSecond)
		add("drive_discarded_bytes", x.Name, x.DiscardedBytes, elapsed, perSecond)
		add("drive_flushes", x.Name, x.Flushes, elapsed, perSecond)
	}
	for i := range d.Interfaces {
		x := &d.Interfaces[i]
		add("interface_received_bytes", x.Name, x.Received, elapsed, perSecond)
		add("interface_sent_bytes", x.Name, x.Sent, elapsed, perSecond)
		add("interface_received_packets", x.Name, x.ReceivedPackets, elapsed, perSecond)
		add("interface_sent_packets", x.Name, x.SentPackets, elapsed, perSecond)
		add("interface_dropped_packets", x.Name, x.ReceivedDropped+x.SentDropped, elapsed, perSecond)
		add("interface_errors", x.Name, x.ReceivedErrors+x.SentErrors, elapsed, perSecond)
	}
	for i := range d.GPUs {
		x := &d.GPUs[i]
		add("gpu_busy_percent", x.Name, x.Micros, x.Told*1000, inPercent)
		add("gpu_taken_bytes", x.Name, x.Units, x.UnitsTold, inMean)
	}
	for i := range d.CPUs {
		c, name := &d.CPUs[i], strconv.Itoa(d.CPUs[i].CPU)
		busy := c.User + c.Nice + c.System + c.IRQ + c.SoftIRQ + c.Steal
		all := busy + c.Idle + c.IOWait
		add("cpu_busy_percent", name, busy, all, inPercent)
		add("cpu_kernel_percent", name, c.System, all, inPercent)
		add("cpu_interrupts_percent", name, c.IRQ+c.SoftIRQ, all, inPercent)
		add("cpu_waiting_percent", name, c.IOWait, all, inPercent)
		add("cpu_taken_percent", name, c.Steal, all, inPercent)
	}
	return peaks
}

// higher is the higher of two peaks of one figure.
func (p PartPeak) higher(q PartPeak) PartPeak {
	p.Milli = max(p.Milli, q.Milli)
	return p
}
