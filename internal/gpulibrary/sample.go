package gpulibrary

import "time"

// leastApart is how far apart samples are taken at least. GPUs sample by themselves, about six times a second to once a
// second: asked sooner, they have nothing new.
const leastApart = 990 * time.Millisecond

// Sample adds up how long each GPU worked, at all and for each process. A sample tells which part of the time of late
// an engine had work; it stands for the time since the sample before.
func (l *Library) Sample() {
	var n uint32
	if l.calls.Count(&n) != success {
		return
	}
	for i := range min(n, mostGPUs) {
		var h handle
		if l.calls.ByIndex(i, &h) == success {
			l.sampleOne(h)
		}
	}
}

func (l *Library) sampleOne(h handle) {
	now := l.now()
	s := l.sampled[h]
	if s == nil {
		s = &sampled{at: now, stamp: uint64(now.UnixMicro()), processes: map[uint32]*[3]int64{}}
		l.sampled[h] = s
		if s.noBusy = figure(l, l.busyCall(), h).Why; l.calls.Samples == nil {
			s.noTimes = notKnown
		}
		return
	}
	apart := now.Sub(s.at)
	if apart < leastApart {
		return
	}
	s.at = now
	micros := apart.Microseconds()
	part := figure(l, l.busyCall(), h)
	if s.noBusy = part.Why; part.OK() {
		s.busy += part.N * micros / 100
	}
	if l.calls.Samples == nil {
		s.noTimes = notKnown
		return
	}
	since := s.stamp
	found, r := list(func(n *uint32, first *sample) result { return l.calls.Samples(h, first, n, since) })
	if s.noTimes = ""; r != success {
		s.noTimes = l.why(r)
		return
	}
	sums, counts := map[uint32][3]int64{}, map[uint32]int64{}
	for _, x := range found {
		if x.PID == 0 || x.PID > mostPID || x.Stamp <= since { // a row that was not written, or an old one
			continue
		}
		s.stamp = max(s.stamp, x.Stamp)
		sum := sums[x.PID]
		for e, percent := range [3]uint32{x.SM, x.Decode, x.Encode} {
			sum[e] += int64(min(percent, 100))
		}
		sums[x.PID] = sum
		counts[x.PID]++
	}
	for pid, sum := range sums {
		p := s.processes[pid]
		if p == nil {
			p = &[3]int64{}
			s.processes[pid] = p
		}
		for e := range p {
			p[e] += sum[e] * micros / 100 / counts[pid]
		}
	}
	for pid := range s.processes {
		if _, there := sums[pid]; !there && len(s.processes) > mostKept {
			delete(s.processes, pid)
		}
	}
}

// mostKept is from how many processes on those that do nothing any more are forgotten.
const mostKept = 1024
