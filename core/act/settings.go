package act

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"vinescale/core/cpuset"
)

// Setting is one of the settings that acts take.
type Setting struct {
	Name    string
	Meaning string
	Example string
	sound   func(string) (string, error) // returns the value as it is carried out
}

// None lifts a limit.
const None = "none"

// LongestWait is the longest time that an act may wait for what it is aimed at to end by itself.
const LongestWait = time.Minute

var settings = []Setting{
	{"force", "end it at once, without asking it first", "true", soundBool},
	{"wait", "how long it is given to end by itself, 1s to 1m", "10s", soundWait},
	{"nice", "niceness of its threads, -20 (gets most) to 19 (gets least)", "10", whole(-20, 19)},
	{"io-priority", "of its threads on disks: idle, or best-effort-0 (first) to best-effort-7", "best-effort-7",
		soundPriority},
	{
		"cpu-weight",
		"of its group against its siblings for CPU time, 1 to 10000; 100 is usual",
		"50",
		whole(1, 10000),
	},
	{"io-weight", "of its group against its siblings on disks, 1 to 10000; 100 is usual", "50", whole(1, 10000)},
	{"cpu", "cores that it may use at most, or none", "1.5", soundCores},
	{"memory", "bytes of memory that it may hold at most, or none", "2GiB", orNone(soundBytes)},
	{"processes", "processes and threads that it may have at most, or none", "500", orNone(whole(1, 4<<20))},
	{
		"read",
		"bytes a second that it may read from a device, as DEVICE=RATE, or DEVICE=none",
		"vda=50MB",
		soundRate,
	},
	{
		"write",
		"bytes a second that it may write to a device, as DEVICE=RATE, or DEVICE=none",
		"vda=20MB",
		soundRate,
	},
	{"cpus", "CPUs that its threads may run on, as a list, a range or a mask", "2-4", soundCPUs},
	{"vcpu", "the virtual CPU of a machine that cpus is for, from 0", "0", whole(0, 4095)},
	{"cpuset", "CPUs of its whole group, as a list, a range or a mask", "2-4", soundCPUs},
	{"alone", "let nobody else run on the CPUs of its group", "true", soundBool},
	{"begins", "whether the unit begins at boot: true or false", "true", soundBool},
	{"seconds", "for how long it is watched, 1 to 30; only looked at once when left out", "5", whole(1, 30)},
	{"lines", "how many of the last lines are told, 1 to 500; 50 when left out", "100", whole(1, 500)},
	{"watts", "what it may draw at most, in whole watts, or usual", "220", soundWatts},
	{"compute", "who may compute on it: shared, one-process or prohibited", "one-process", soundCompute},
	{"text", "what is written", "back up your work by noon", soundText},
}

// SettingOf finds a setting by name.
func SettingOf(name string) (Setting, bool) {
	i := slices.IndexFunc(settings, func(s Setting) bool { return s.Name == name })
	if i < 0 {
		return Setting{}, false
	}
	return settings[i], true
}

// checkSettings returns settings as they are carried out. The error names the setting, and says what it may be.
func (e *Entry) checkSettings(given map[string]string) (map[string]string, error) {
	clean := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(given)) {
		s, is := SettingOf(name)
		if !is || !slices.Contains(e.Settings, name) {
			return nil, fmt.Errorf("%s takes no setting %q: it takes %s", e.Verb, name, orNothing(e.Settings))
		}
		value, err := s.sound(strings.TrimSpace(given[name]))
		if err != nil {
			return nil, fmt.Errorf("%s %q: %w (%s; such as %s)", name, given[name], err, s.Meaning, s.Example)
		}
		clean[name] = value
	}
	if e.IsAny && len(clean) == 0 {
		return nil, fmt.Errorf(
			"%s needs to be told what to: give at least one of %s",
			e.Verb,
			orNothing(e.Settings),
		)
	}
	if clean["alone"] == "true" && clean["cpuset"] == "" {
		return nil, errors.New("alone is of the CPUs of a group: give cpuset too")
	}
	if clean["vcpu"] != "" && clean["cpus"] == "" {
		return nil, errors.New("vcpu names a virtual CPU: give cpus for it too")
	}
	return clean, nil
}

func orNothing(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

func orNone(sound func(string) (string, error)) func(string) (string, error) {
	return func(text string) (string, error) {
		if text == None {
			return None, nil
		}
		return sound(text)
	}
}

func soundBool(text string) (string, error) {
	b, err := strconv.ParseBool(text)
	if err != nil {
		return "", errors.New("say true or false")
	}
	return strconv.FormatBool(b), nil
}

func whole(least, most int64) func(string) (string, error) {
	return func(text string) (string, error) {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || n < least || n > most {
			return "", fmt.Errorf("give a whole number from %d to %d", least, most)
		}
		return strconv.FormatInt(n, 10), nil
	}
}

func soundWait(text string) (string, error) {
	d, err := time.ParseDuration(text)
	if err != nil || d < time.Second || d > LongestWait {
		return "", fmt.Errorf("give a time from 1s to %s", LongestWait)
	}
	return d.String(), nil
}

// BestEffort begins the names of those I/O priorities that have a place.
const BestEffort = "best-effort-"

func soundPriority(text string) (string, error) {
	level, is := strings.CutPrefix(text, BestEffort)
	if text == "idle" || is && len(level) == 1 && level >= "0" && level <= "7" {
		return text, nil
	}
	return "", errors.New("there is no such priority")
}

// LeastCores is the smallest CPU limit: the kernel takes none below a millisecond in each tenth of a second.
const LeastCores = 0.01

func soundCores(text string) (string, error) {
	if text == None {
		return None, nil
	}
	cores, err := strconv.ParseFloat(text, 64)
	if err != nil || !(cores >= LeastCores && cores <= 100_000) {
		return "", fmt.Errorf("give a number of cores from %g", LeastCores)
	}
	return strconv.FormatFloat(cores, 'g', -1, 64), nil
}

var byteUnits = map[string]float64{"": 1, "b": 1, "k": 1 << 10, "m": 1 << 20, "g": 1 << 30, "t": 1 << 40,
	"kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40, "kb": 1e3, "mb": 1e6, "gb": 1e9, "tb": 1e12}

func soundBytes(text string) (string, error) {
	number := strings.TrimRight(strings.ToLower(text), "bkmgti")
	per, known := byteUnits[strings.ToLower(text[len(number):])]
	n, err := strconv.ParseFloat(number, 64)
	if bytes := n * per; err == nil && known && bytes >= 1 && bytes < math.MaxInt64 {
		return strconv.FormatInt(int64(bytes), 10), nil
	}
	return "", errors.New("give a number of bytes, which may have a unit such as MiB or MB")
}

func soundRate(text string) (string, error) {
	device, rate, is := strings.Cut(text, "=")
	if !is || device == "" || strings.ContainsAny(device, "./ ") {
		return "", errors.New("name the device as the kernel does")
	}
	value, err := orNone(soundBytes)(strings.TrimSuffix(rate, "/s"))
	return device + "=" + value, err
}

func soundCPUs(text string) (string, error) {
	set, err := cpuset.Read(text)
	if err == nil && set.IsEmpty() {
		err = errors.New("it names no CPU")
	}
	return set.String(), err
}

// Usual puts a limit back to what it usually is.
const Usual = "usual"

func soundWatts(text string) (string, error) {
	if text == Usual {
		return Usual, nil
	}
	return whole(1, 10_000)(text)
}

func soundCompute(text string) (string, error) {
	if slices.Contains([]string{"shared", "one-process", "prohibited"}, text) {
		return text, nil
	}
	return "", errors.New("say shared, one-process or prohibited")
}

// longestText is how long a message may be.
const longestText = 500

func soundText(text string) (string, error) {
	if text == "" || len(text) > longestText {
		return "", fmt.Errorf("give a line of 1 to %d bytes", longestText)
	}
	for _, r := range text {
		if r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 || r == '\uFFFD' {
			return "", errors.New("it has a character that would steer a terminal")
		}
	}
	return text, nil
}
