package kernel

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestController_IsWhatADeviceIsAttachedTo(t *testing.T) {
	for place, want := range map[string]string{
		"../devices/pci0000:00/0000:00:04.0/nvme/nvme0/nvme0n1":                               "0000:00:04.0",
		"../devices/pci0000:00/0000:00:1f.2/ata1/host0/target0:0:0/0:0:0:0/block/sda":         "0000:00:1f.2",
		"../devices/pci0000:00/0000:00:1c.0/0000:01:00.0/host2/target2:0:0/2:0:0:0/block/sdc": "0000:01:00.0",
		"../devices/platform/soc/fe340000.mmc/mmc_host/mmc0/mmc0:0001/block/mmcblk0":          "soc",
		"../devices/virtual/block/dm-0":                                                       "virtual",
	} {
		assert.Equal(t, want, controllerOf(place), place)
	}
}

func TestSwappedPages_NameTheirSwap(t *testing.T) {
	for entry, want := range map[uint64]int{1 << 62: 0, 1<<62 | 3 | 77<<5: 3, 1<<63 | 5: -1, 0: -1, 1<<62 | 1<<63: -1} {
		swap, ok := swappedPage(entry)
		if !ok {
			swap = -1
		}
		assert.Equal(t, want, swap, "%#x", entry)
	}
}

// FuzzPlaces: whatever the kernel tells of devices and changes, nothing panics.
func FuzzPlaces(f *testing.F) {
	f.Add([]byte("../devices/pci0000:00/0000:00:04.0/nvme/nvme0/nvme0n1"))
	f.Add([]byte{3, 0, 0, 0, 1})
	f.Fuzz(func(t *testing.T, b []byte) {
		tellsChange(b)
		controllerOf(string(b))
	})
}
