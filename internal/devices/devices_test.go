package devices_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/internal/devices"
)

// tree stages files below a directory; a content that begins with "-> " is a link.
func tree(t testing.TB, files map[string]string) string {
	dir := t.TempDir()
	for name, content := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		if to, ok := strings.CutPrefix(content, "-> "); ok {
			require.NoError(t, os.MkdirAll(filepath.Join(filepath.Dir(path), to), 0o755))
			require.NoError(t, os.Symlink(to, path))
			continue
		}
		require.NoError(t, os.WriteFile(path, []byte(content+"\n"), 0o644))
	}
	return dir
}

func TestMeters_AreThoseThatNoOtherHolds(t *testing.T) {
	packages := map[string]string{
		"class/powercap/intel-rapl/enabled": "1", "class/powercap/intel-rapl:0/name": "package-0",
		"class/powercap/intel-rapl:0/energy_uj": "500", "class/powercap/intel-rapl:0/max_energy_range_uj": "1000",
		"class/powercap/intel-rapl:0:0/name": "core", "class/powercap/intel-rapl:0:0/energy_uj": "300",
		"class/powercap/intel-rapl:0:1/name": "dram", "class/powercap/intel-rapl:0:1/energy_uj": "70",
		"class/powercap/intel-rapl-mmio:0/name": "package-0", "class/powercap/intel-rapl-mmio:0/energy_uj": "501",
		"class/powercap/intel-rapl:1/name": "package-1", "class/powercap/intel-rapl:1/energy_uj": "20",
	}
	with := func(more ...string) map[string]string {
		files := map[string]string{}
		for k, v := range packages {
			files[k] = v
		}
		for i := 0; i < len(more); i += 2 {
			files[more[i]] = more[i+1]
		}
		return files
	}
	pack := []account.Meter{{Name: "package-0", MicroJoules: 500, Range: 1000},
		{Name: "dram of package-0", MicroJoules: 70}, {Name: "package-1", MicroJoules: 20}}
	for what, x := range map[string]struct {
		files  map[string]string
		want   []account.Meter
		reason string
	}{
		"packages, with memory beside them": {packages, pack, ""},
		"what meters all in place of its parts": {with("class/powercap/intel-rapl:2/name", "psys",
			"class/powercap/intel-rapl:2/energy_uj", "900"),
			[]account.Meter{{Name: "psys", Whole: true, MicroJoules: 900}}, ""},
		"a power meter, whose files lie with its device": {with("class/hwmon/hwmon3/name", "power_meter",
			"class/hwmon/hwmon3/device/power1_average", "213000000"),
			[]account.Meter{{Name: "power meter", Whole: true, IsPower: true, MicroWatts: 213000000}}, ""},
		"one that counts before one that samples, and first of all": {map[string]string{
			"class/powercap/intel-rapl:0/name": "psys", "class/powercap/intel-rapl:0/energy_uj": "40",
			"class/powercap/intel-rapl:1/name": "package-0", "class/powercap/intel-rapl:1/energy_uj": "30",
			"class/hwmon/hwmon0/name": "power_meter", "class/hwmon/hwmon0/power1_average": "9"},
			[]account.Meter{{Name: "psys", Whole: true, MicroJoules: 40}}, ""},
		"none":           {map[string]string{"class/hwmon/hwmon0/name": "acpitz"}, nil, devices.NoMeter},
		"one cut short":  {with("class/powercap/intel-rapl:0/energy_uj", ""), nil, "package-0 cannot be read: its"},
		"one below zero": {with("class/powercap/intel-rapl:0/energy_uj", "-5"), nil, "its file holds no number"},
	} {
		meters, reason := devices.Open(devices.Options{Sys: tree(t, x.files)}).Meters(nil)
		assert.ElementsMatch(t, x.want, meters, what)
		assert.Contains(t, reason, x.reason, what)
		assert.Equal(t, x.reason == "", reason == "", what)
	}
}

func TestMeters_OneThatVanishesIsSaidAndFoundAgain(t *testing.T) {
	dir := tree(t, map[string]string{"class/powercap/intel-rapl:0/name": "package-0",
		"class/powercap/intel-rapl:0/energy_uj": "5"})
	h := devices.Open(devices.Options{Sys: dir})
	meters, _ := h.Meters(nil)
	require.Len(t, meters, 1)
	file := filepath.Join(dir, "class/powercap/intel-rapl:0/energy_uj")
	require.NoError(t, os.Remove(file))
	meters, reason := h.Meters(meters)
	assert.Empty(t, meters)
	assert.Contains(t, reason, "taken away")
	require.NoError(t, os.WriteFile(file, []byte("9\n"), 0o644))
	meters, reason = h.Meters(meters)
	assert.Len(t, meters, 1)
	assert.Empty(t, reason)
}

func value(v float64) *float64 { return &v }

func TestSensors_EachIsListedOnceWithItsThresholds(t *testing.T) {
	dir := tree(t, map[string]string{
		"class/hwmon/hwmon0/name": "coretemp", "class/hwmon/hwmon0/temp1_input": "61500",
		"class/hwmon/hwmon0/temp1_label": "Package id 0", "class/hwmon/hwmon0/temp1_max": "84000",
		"class/hwmon/hwmon0/temp1_crit": "100000", "class/hwmon/hwmon0/temp10_input": "95000",
		"class/hwmon/hwmon0/temp10_max": "84000", "class/hwmon/hwmon0/temp2_input": "",
		"class/hwmon/hwmon0/temp2_max": "65261850", // that a driver gives where there is none
		"class/hwmon/hwmon0/device":    "-> ../../../devices/chip", "class/hwmon/hwmon10/name": "nvme",
		"class/hwmon/hwmon10/temp1_input": "40850", "class/hwmon/hwmon10/device": "-> ../../../devices/drive",
		"devices/drive/block/nvme0n1/size": "1", "class/hwmon/hwmon2/name": "board",
		"class/hwmon/hwmon2/fan1_input": "0", "class/hwmon/hwmon2/fan1_fault": "1",
		"class/hwmon/hwmon2/fan1_min":   "500",
		"class/hwmon/hwmon2/fan2_input": "1040", "class/hwmon/hwmon2/fan2_min": "1000",
		"class/hwmon/hwmon2/in0_input": "12060", "class/hwmon/hwmon2/in0_min": "11400",
		"class/hwmon/hwmon2/in0_max": "12600", "class/hwmon/hwmon2/in0_alarm": "1",
		"class/hwmon/hwmon2/curr1_input": "1500", "class/hwmon/hwmon2/humidity1_input": "45500",
		"class/hwmon/hwmon2/intrusion0_alarm": "1", "class/hwmon/hwmon2/power1_average": "25000000",
		"class/hwmon/hwmon2/energy1_input": "3600000000", "class/hwmon/hwmon2/pwm1": "255",
		// The kernel shows a thermal zone, and a supply, as chips too.
		"devices/zone/type": "acpitz", "devices/zone/temp": "27800", "devices/zone/trip_point_0_type": "critical",
		"devices/zone/trip_point_0_temp": "105000", "devices/zone/trip_point_1_type": "passive",
		"devices/zone/trip_point_1_temp": "90000", "devices/zone/hwmon5/name": "acpitz",
		"devices/zone/hwmon5/temp1_input": "27800", "class/power_supply/BAT0/type": "Battery",
		"class/power_supply/BAT0/capacity": "83", "class/power_supply/BAT0/status": "Charging",
		"class/power_supply/BAT0/energy_now": "10000000", "class/power_supply/BAT0/hwmon6/name": "BAT0",
		"class/power_supply/BAT0/hwmon6/in0_input": "12000", "class/powercap/intel-rapl:0/name": "package-0",
		"class/powercap/intel-rapl:0/energy_uj":                   "7500000",
		"class/powercap/intel-rapl:0/constraint_0_power_limit_uw": "95000000",
	})
	link := func(to, at string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, at)), 0o755))
		require.NoError(t, os.Symlink(filepath.Join(dir, to), filepath.Join(dir, at)))
	}
	link("devices/zone", "class/thermal/thermal_zone0")
	link("devices/zone/hwmon5", "class/hwmon/hwmon5")
	link("class/power_supply/BAT0/hwmon6", "class/hwmon/hwmon6")
	s := func(chip, device, name, kind, unit string, v *float64, state string) account.Sensor {
		return account.Sensor{Chip: chip, Device: device, Name: name, Kind: kind, Unit: unit, Value: v, State: state}
	}
	limits := func(s account.Sensor, low, high, critical, left *float64, to string) account.Sensor {
		s.Low, s.High, s.Critical, s.Left, s.To = low, high, critical, left, to
		return s
	}
	fault := limits(s("board", "", "fan1", account.Fan, "rpm", value(0), account.SensorFault), value(500), nil, nil,
		value(-500), "low")
	fault.Fault = true
	alarm := limits(s("board", "", "in0", account.Voltage, "V", value(12.06), account.SensorAlarm), value(11.4),
		value(12.6), nil, value(12.6-12.06), "high")
	alarm.Alarm = true
	charge := s("battery", "BAT0", "charge", account.Charge, "%", value(83), account.SensorUnlimited)
	charge.Says = "charging"
	broken := s("coretemp", "chip", "temp2", account.Temperature, "°C", nil, account.SensorUnavailable)
	broken.Why = "its file holds no number"
	want := []account.Sensor{
		limits(s("acpitz", "thermal_zone0", "temperature", account.Temperature, "°C", value(27.8),
			account.SensorWithin), nil, value(90), value(105), value(90-27.8), "high"),
		charge, s("battery", "BAT0", "energy", account.Energy, "J", value(36000), account.SensorUnlimited),
		limits(s("coretemp", "chip", "Package id 0", account.Temperature, "°C", value(61.5), account.SensorWithin), nil,
			value(84), value(100), value(22.5), "high"),
		broken,
		limits(s("coretemp", "chip", "temp10", account.Temperature, "°C", value(95), account.SensorBeyond), nil,
			value(84), nil, value(-11), "high"),
		fault,
		limits(s("board", "", "fan2", account.Fan, "rpm", value(1040), account.SensorNear), value(1000), nil, nil,
			value(40), "low"),
		alarm,
		s("board", "", "curr1", account.Current, "A", value(1.5), account.SensorUnlimited),
		s("board", "", "power1", account.Power, "W", value(25), account.SensorUnlimited),
		s("board", "", "energy1", account.Energy, "J", value(3600), account.SensorUnlimited),
		s("board", "", "humidity1", account.Humidity, "%", value(45.5), account.SensorUnlimited),
		s("board", "", "intrusion0", account.Intrusion, "", value(1), account.SensorAlarm),
		s("nvme", "nvme0n1", "temp1", account.Temperature, "°C", value(40.85), account.SensorUnlimited),
		s("powercap", "package-0", "energy", account.Energy, "J", value(7.5), account.SensorUnlimited),
		s("powercap", "package-0", "cap", account.Power, "W", value(95), account.SensorUnlimited),
	}
	got := devices.Open(devices.Options{Sys: dir}).Sensors()
	for i := range got { // to what a file's last digit tells
		if l := got[i].Left; l != nil {
			for k := range want {
				if w := want[k].Left; w != nil && want[k].Name == got[i].Name && want[k].Chip == got[i].Chip {
					assert.InDelta(t, *w, *l, 1e-9)
					got[i].Left = w
				}
			}
		}
	}
	assert.Equal(t, want, got)
}

func TestSensors_NothingIsNoMistake(t *testing.T) {
	assert.Empty(t, devices.Open(devices.Options{Sys: filepath.Join(t.TempDir(), "nowhere")}).Sensors())
	_, reason := devices.Open(devices.Options{Sys: t.TempDir()}).Meters(nil)
	assert.Equal(t, devices.NoMeter, reason)
}

// FuzzSensors puts anything into the files of sensors and meters: whatever they hold, reading goes on.
func FuzzSensors(f *testing.F) {
	for _, x := range []string{"61500", "", "-1", "9223372036854775807", "12 34", "\xff\xfe", "0x10", "1e9",
		strings.Repeat("7", 10_000)} {
		f.Add(x, x, x)
	}
	f.Fuzz(func(t *testing.T, a, b, c string) {
		dir := tree(t, map[string]string{"class/hwmon/hwmon0/name": a, "class/hwmon/hwmon0/temp1_input": b,
			"class/hwmon/hwmon0/temp1_max": c, "class/hwmon/hwmon0/temp1_label": a,
			"class/powercap/intel-rapl:0/name": a, "class/powercap/intel-rapl:0/energy_uj": b,
			"class/powercap/intel-rapl:0/max_energy_range_uj": c, "class/thermal/thermal_zone0/type": a,
			"class/thermal/thermal_zone0/temp": b, "class/thermal/thermal_zone0/trip_point_0_type": "critical",
			"class/thermal/thermal_zone0/trip_point_0_temp": c})
		h := devices.Open(devices.Options{Sys: dir})
		meters, reason := h.Meters(nil)
		for _, m := range meters {
			if m.MicroJoules < 0 || reason != "" {
				t.Fatalf("%+v, %q", m, reason)
			}
		}
		for _, s := range h.Sensors() {
			if (s.Value == nil) != (s.Why != "") || s.State == "" || len(s.Name) > 5000 {
				t.Fatalf("%+v", s)
			}
		}
	})
}
