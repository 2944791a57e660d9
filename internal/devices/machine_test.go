package devices_test

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/internal/devices"
)

// slot is a structure of the firmware's tables for a slot of memory (SMBIOS, "Memory Device").
func slot(name string, size uint16, extended uint32, speed uint16) []byte {
	b := make([]byte, 0x22)
	b[0], b[1] = 17, byte(len(b))
	binary.LittleEndian.PutUint16(b[0x0C:], size)
	binary.LittleEndian.PutUint32(b[0x1C:], extended)
	b[0x0E], b[0x10], b[0x12], b[0x17], b[0x1A] = 9, 1, 0x1A, 2, 3
	binary.LittleEndian.PutUint16(b[0x15:], 3200)
	binary.LittleEndian.PutUint16(b[0x20:], speed)
	return append(b, name+"\x00Cooper\x00Not Specified\x00\x00"...)
}

func machine(t testing.TB, files map[string]string, places ...account.CPUPlace) (*account.Machine, string) {
	dir := tree(t, files)
	return devices.Machine(devices.Trees{Proc: filepath.Join(dir, "proc"), Sys: filepath.Join(dir, "sys"),
		Etc: filepath.Join(dir, "etc")}, places), dir
}

func facts(m *account.Machine) map[string]string {
	all := map[string]string{}
	for _, f := range m.Facts {
		all[f.What] = f.Text + f.Why
	}
	return all
}

func TestMachine_TellsWhatTheFirmwareTheKernelAndTheSystemState(t *testing.T) {
	tables := string(slot("DIMM A1", 16384, 0, 2933)) + string(slot("DIMM A2", 0x7FFF, 65536, 3200)) +
		string(slot("DIMM B1", 0, 0, 0)) + string(slot("DIMM B2", 0xFFFF, 0, 0)) + "\x7f\x04\x00\x7f\x00\x00"
	m, _ := machine(t, map[string]string{
		"sys/class/dmi/id/sys_vendor": "Cooper", "sys/class/dmi/id/product_name": "Cask 24",
		"sys/class/dmi/id/product_version": "To be filled by O.E.M.", "sys/class/dmi/id/board_name": "Default string",
		"sys/class/dmi/id/board_vendor": "Nonesuch", "sys/class/dmi/id/board_version": "None",
		"sys/class/dmi/id/bios_version": "2.14", "sys/class/dmi/id/bios_date": "03/11/2025",
		"sys/class/dmi/id/chassis_type": "23", "sys/firmware/dmi/tables/DMI": tables,
		"etc/os-release":            "NAME=x\nPRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"",
		"proc/sys/kernel/osrelease": "6.12.48",
		"proc/sys/kernel/arch":      "x86_64", "proc/stat": "cpu 1 2\nbtime 1764200000",
		"proc/cpuinfo": "model name\t: Cooper Grape 7\ncpu MHz\t\t: 2400.1\nflags\t\t: fpu avx2 vmx fancy\n\n" +
			"model name\t: Cooper Grape 7\ncpu MHz\t\t: 3100.5\nflags\t\t: fpu avx2 vmx fancy\n",
		"sys/devices/system/cpu/cpu0/cache/index0/level": "1", "sys/devices/system/cpu/cpu0/cache/index0/type": "Data",
		"sys/devices/system/cpu/cpu0/cache/index0/size": "48K", "sys/devices/system/cpu/cpu0/cache/index3/level": "3",
		"sys/devices/system/cpu/cpu0/cache/index3/size":            "36864K",
		"sys/devices/system/cpu/cpu0/cache/index3/type":            "Unified",
		"sys/devices/system/cpu/cpu0/cache/index3/shared_cpu_list": "0-3",
		"etc/systemd/system/multi-user.target.wants/ssh.service":   "", "etc/systemd/system/sshd.service": "",
		"etc/systemd/system/timers.target.wants/rack.timer":     "",
		"etc/systemd/system/press.service.requires/ssh.service": "",
		"etc/rc2.d/S01ledger": "", "etc/rc3.d/S01ledger": "", "etc/rc3.d/K01lees": "", "etc/cron.daily/rotate": "",
		"etc/cron.d/close": "# at night\nSHELL=/bin/sh\n15 3 * * * root /opt/bin/close-the-day --key hush\n" +
			"@reboot press tread",
		"etc/cron.daily/.placeholder": "", "etc/crontab": "17 * * * *",
	}, account.CPUPlace{CPU: 0, MostKHz: 3500000}, account.CPUPlace{CPU: 1}, account.CPUPlace{CPU: 2, Core: 1},
		account.CPUPlace{CPU: 3, Core: 1, Node: 1})
	assert.Equal(t, map[string]string{
		"vendor": "Cooper", "model": "Cask 24", "board": "Nonesuch", "firmware": "2.14 03/11/2025",
		"enclosure": "rack mount", "system": "Debian GNU/Linux 12 (bookworm)", "kernel": "6.12.48, x86_64",
		"up since": "2025-11-26T23:33:20Z", "processor": "Cooper Grape 7",
		"processors": "1 package, 2 cores, 4 CPUs (2 a core), 2 nodes",
		"clocks":     "2400 to 3100 MHz now, 3500 MHz at most", "caches": "L1 data 48 KiB, L3 36 MiB for 4 CPUs",
		"flags": "vmx avx2",
	}, facts(m))
	assert.Empty(t, m.NoModules)
	assert.Equal(t, []account.MemoryModule{
		{Slot: "DIMM A1", SizeBytes: 16 << 30, Type: "DDR4", Form: "DIMM", Maker: "Cooper", MegaTransfers: 2933,
			MostTransfers: 3200},
		{Slot: "DIMM A2", SizeBytes: 64 << 30, Type: "DDR4", Form: "DIMM", Maker: "Cooper", MegaTransfers: 3200,
			MostTransfers: 3200},
		{Slot: "DIMM B1"}, {Slot: "DIMM B2"}}, m.Modules)
	assert.Equal(t, []account.Start{
		{Name: "ssh.service", Kind: "service", When: "multi-user, press.service"},
		{Name: "ledger", Kind: "start-up entry", When: "run level 2, 3"},
		{Name: "close-the-day", Kind: "timed command", When: "15 3 * * * as root, by cron.d/close"},
		{Name: "rotate", Kind: "timed command", When: "daily"},
		{Name: "tread", Kind: "timed command", When: "@reboot as press, by cron.d/close"},
		{Name: "rack.timer", Kind: "timer", When: "timers"}}, m.Starts)
}

func TestMachine_NotStatedIsToldApartFromNoRight(t *testing.T) {
	m, dir := machine(t, nil)
	for what, text := range facts(m) {
		assert.Equal(t, account.NotStated, text, what)
	}
	assert.Equal(t, account.NotStated, m.NoModules)
	assert.Empty(t, m.Starts)
	if os.Geteuid() == 0 {
		return // who may read everything
	}
	table := filepath.Join(dir, "sys/firmware/dmi/tables/DMI")
	require.NoError(t, os.MkdirAll(filepath.Dir(table), 0o755))
	require.NoError(t, os.WriteFile(table, nil, 0))
	m = devices.Machine(devices.Trees{Sys: filepath.Join(dir, "sys")}, nil)
	assert.Equal(t, "it may be read by root alone", m.NoModules)
}

// FuzzMachine puts anything into the firmware's tables and the texts: whatever they hold, reading ends.
func FuzzMachine(f *testing.F) {
	good := slot("DIMM A1", 16384, 0, 2933)
	f.Add(good, "model name : x\ncpu MHz : 1e9", "15 3 * * * root x")
	f.Add(good[:20], ": : :", "@")
	f.Add([]byte{17, 255, 0, 0}, "", "* * * * *")
	f.Fuzz(func(t *testing.T, tables []byte, cpuinfo, timed string) {
		m, _ := machine(t, map[string]string{"sys/firmware/dmi/tables/DMI": string(tables), "proc/cpuinfo": cpuinfo,
			"etc/cron.d/x": timed, "etc/os-release": cpuinfo, "proc/stat": "btime " + cpuinfo,
			"sys/devices/system/cpu/cpu0/cache/index0/level": timed,
			"sys/devices/system/cpu/cpu0/cache/index0/size":  timed})
		if (len(m.Modules) == 0) != (m.NoModules != "") {
			t.Fatalf("%+v", m)
		}
		for _, f := range m.Facts {
			if (f.Text == "") != (f.Why != "") {
				t.Fatalf("%+v", f)
			}
		}
	})
}
