package cpuset

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// ParseMask reads the kernel's mask format: groups of up to eight hexadecimal digits, separated by commas, the highest
// CPUs first ("ff", "00000001,ffffffff"; proc_pid_status(5), "Cpus_allowed"). A leading 0x is taken, as administrators
// write it. The error names the group that is wrong.
func ParseMask(mask string) (Set, error) {
	text := strings.TrimSpace(mask)
	digits, isPrefixed := strings.CutPrefix(strings.ToLower(text), "0x")
	groups := strings.Split(digits, ",")
	var words []uint64
	add := func(at int, digits string) error {
		v, err := strconv.ParseUint(digits, 16, 64)
		if err != nil || digits == "" {
			return fmt.Errorf("CPU mask %q: %q is not a hexadecimal number", text, digits)
		}
		if v == 0 {
			return nil
		}
		if at > MaxCPU/32 {
			return fmt.Errorf(
				"CPU mask %q is too long: it names CPUs above the highest possible number %d",
				text,
				MaxCPU,
			)
		}
		for len(words) <= at/2 {
			words = append(words, 0)
		}
		words[at/2] |= v << (32 * (at % 2))
		return nil
	}
	if len(groups) == 1 { // one number, of any length
		at := 0
		for rest := groups[0]; rest != "" || at == 0; at++ {
			cut := max(len(rest)-8, 0)
			if err := add(at, rest[cut:]); err != nil {
				return Set{}, err
			}
			rest = rest[:cut]
		}
		return Set{words}, nil
	}
	if isPrefixed {
		return Set{}, fmt.Errorf(
			"CPU mask %q: write either one number that begins with 0x, or groups of eight digits",
			text,
		)
	}
	slices.Reverse(groups)
	for at, g := range groups {
		if last := at == len(groups)-1; len(g) > 8 || len(g) < 8 && !last {
			return Set{}, fmt.Errorf("CPU mask %q: the group %q has %d digits; all but the first have eight", text, g,
				len(g))
		}
		if err := add(at, g); err != nil {
			return Set{}, err
		}
	}
	return Set{words}, nil
}

// Mask is the set in the kernel's mask format, without leading zeros: "ff", "1,00000000". The empty set is "0".
func (s Set) Mask() string {
	var groups []string
	for i := range s.words {
		w := s.words[len(s.words)-1-i]
		groups = append(groups, fmt.Sprintf("%08x", w>>32), fmt.Sprintf("%08x", w&0xffffffff))
	}
	for len(groups) > 0 && groups[0] == "00000000" {
		groups = groups[1:]
	}
	if len(groups) == 0 {
		return "0"
	}
	groups[0] = strings.TrimLeft(groups[0], "0")
	return strings.Join(groups, ",")
}

// Read takes either format, as people give them: a list, or a mask that begins with 0x or has groups of eight digits.
func Read(text string) (Set, error) {
	text = strings.TrimSpace(text)
	if strings.HasPrefix(strings.ToLower(text), "0x") {
		return ParseMask(text)
	}
	if _, rest, isGrouped := strings.Cut(text, ","); isGrouped && !strings.Contains(text, "-") {
		for group := range strings.SplitSeq(rest, ",") {
			if len(group) != 8 {
				return Parse(text)
			}
		}
		return ParseMask(text)
	}
	return Parse(text)
}
