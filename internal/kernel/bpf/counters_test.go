package bpf

import (
	"fmt"
	"os"
	"testing"
	"time"
)

func TestTry(t *testing.T) {
	c := Open(Options{CgroupV2: "/sys/fs/cgroup/unified"})
	defer c.Close()
	for f := range NumFeatures {
		fmt.Println(f, c.Missing(f))
	}
	time.Sleep(time.Second)
	ts, err := c.Tasks()
	fmt.Println(len(ts), err, taskSize)
	for i := range ts {
		if ts[i].Pid == int32(os.Getpid()) {
			fmt.Printf("%+v %s\n", ts[i], Comm(&ts[i].Comm))
		}
	}
	c.Settle()
	fmt.Println(c.CPU(func(g GroupPair, s []Spent) { fmt.Println(g, s) }))
	fmt.Println(c.Totals())
	fmt.Println(c.Ended(func(e *Ended) { fmt.Printf("%+v\n", *e) }))
	fmt.Println(c.Flows(func(f Flow, m Moved) { fmt.Println(f, m) }))
	fmt.Println(c.Transfers(func(f Transfer, m Done) { fmt.Println(f, m) }))
	fmt.Println(c.Latencies(func(f Slot, m uint64) { fmt.Println(f, m) }))
}
