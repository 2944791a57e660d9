package kernel_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
)

// TestDisks_WaysToADriveCountOnce has three drives: one with two ways, that counts itself; one with two, that does not,
// as before Linux 6.3; and one whose name only looks like a way.
func TestDisks_WaysToADriveCountOnce(t *testing.T) {
	f := follow(t)
	for name, hidden := range map[string]string{"nvme0n1": "0", "nvme0c0n1": "1", "nvme0c3n1": "1", "nvme2n10": "0",
		"nvme2c2n10": "1", "nvme2c7n10": "1", "nvme9c9n9": "1"} {
		f.write("sys/block/"+name+"/hidden", hidden+"\n")
		f.write("sys/block/"+name+"/device/model", "cask\n")
	}
	f.write("proc/diskstats", `259 0 nvme0c0n1 3 1 24 42 8 2 8192 41 1 84 85 2 0 16 5 6 7
259 1 nvme0n1 7 0 56 28 9 0 9000 80 0 76 108 2 0 16 5 6 7
259 2 nvme0c3n1 4 0 32 10 1 0 808 3 0 8 9 0 0 0 0 0 0
259 3 nvme2c2n10 3 1 24 42 8 2 8192 41 1 84 85 2 1 16 5 6 7
259 4 nvme2c7n10 5 4 40 11 1 3 16 2 2 90 3 1 0 8 1 2 3
259 5 nvme2n10 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0
259 6 nvme9c9n9 1 0 8 1 0 0 0 0 0 1 1 0 0 0 0 0 0
`)
	var r account.Reading
	for range 2 {
		require.NoError(t, f.Read(&r))
		assert.Equal(t, []account.Disk{
			{Name: "nvme0n1", Major: 259, Minor: 1, ReadOps: 7, ReadBytes: 56 * 512, ReadMillis: 28, WriteOps: 9,
				WrittenBytes: 9000 * 512, WriteMillis: 80, BusyMillis: 76, QueueMillis: 108, Discards: 2,
				DiscardedBytes: 16 * 512, DiscardMillis: 5, Flushes: 6, FlushMillis: 7},
			{Name: "nvme2n10", Major: 259, Minor: 5, ReadOps: 8, ReadMerged: 5, ReadBytes: 64 * 512, ReadMillis: 53,
				WriteOps: 9, WriteMerged: 5, WrittenBytes: 8208 * 512, WriteMillis: 43, InFlight: 3, BusyMillis: 90,
				QueueMillis: 88, Discards: 3, DiscardedBytes: 24 * 512, DiscardMillis: 6, Flushes: 8, FlushMillis: 10},
			{Name: "nvme9c9n9", Major: 259, Minor: 6, ReadOps: 1, ReadBytes: 8 * 512, ReadMillis: 1, BusyMillis: 1,
				QueueMillis: 1},
		}, r.Disks)
	}
}
