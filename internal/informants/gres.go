package informants

import (
	"fmt"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"vinescale/core/cpuset"
)

// nodeName is the name by which a batch scheduler knows this host: its own, without the domain.
func nodeName() string {
	name, err := os.Hostname()
	if err != nil {
		return ""
	}
	short, _, _ := strings.Cut(name, ".")
	return short
}

// gresIndex finds the GPUs in a node's generic resources, such as gpu:a100:2(IDX:0-1),gpu:v100:1(IDX:4).
var gresIndex = regexp.MustCompile(`(?:^|,)gpu(?::[^(),]*)?\(IDX:([^)]*)\)`)

// gpusOn lists the numbers of the GPUs that a job has on a host, as the host numbers them: inside the job every GPU
// looks like number 0. False where that is not known: the scheduler tells of several hosts, and this one is not among
// them by its name.
func (j *slurmJob) gpusOn(host string) (list string, known bool) {
	var detail string
	switch nodes := expandNodes(j.Nodes); {
	case len(j.GresDetail) == 0:
		return "", true
	case len(j.GresDetail) == 1 && len(nodes) < 2:
		detail = j.GresDetail[0]
	default:
		i := slices.Index(nodes, host)
		if i < 0 || i >= len(j.GresDetail) || len(nodes) != len(j.GresDetail) {
			return "", false
		}
		detail = j.GresDetail[i]
	}
	var gpus []string
	for _, m := range gresIndex.FindAllStringSubmatch(detail, -1) {
		set, err := cpuset.Parse(m[1])
		if err != nil {
			continue // N/A: nothing of this kind is allotted by number
		}
		for _, n := range set.CPUs() {
			gpus = append(gpus, strconv.Itoa(n))
		}
	}
	return strings.Join(gpus, ","), true
}

// mostNodes bounds how many nodes a list may stand for.
const mostNodes = 100_000

// expandNodes writes out a list of nodes such as terrace-[1-3,07],press-1; nil where it is none.
func expandNodes(list string) []string {
	var nodes []string
	for list != "" {
		end := len(list)
		if comma := strings.IndexByte(list, ','); comma >= 0 {
			end = comma
		}
		open := strings.IndexByte(list[:end], '[')
		if open < 0 {
			nodes = append(nodes, list[:end])
			list = strings.TrimPrefix(list[end:], ",")
			continue
		}
		shut := strings.IndexByte(list, ']')
		if shut < open {
			return nil
		}
		prefix, ranges, rest := list[:open], list[open+1:shut], list[shut+1:]
		suffix, after, _ := strings.Cut(rest, ",")
		if strings.ContainsAny(suffix, "[]") {
			return nil // several ranges in one name
		}
		for _, r := range strings.Split(ranges, ",") {
			from, to, isRange := strings.Cut(r, "-")
			if !isRange {
				to = from
			}
			first, err1 := strconv.Atoi(from)
			last, err2 := strconv.Atoi(to)
			if err1 != nil || err2 != nil || last < first || len(nodes)+last-first > mostNodes {
				return nil
			}
			for n := first; n <= last; n++ {
				nodes = append(nodes, fmt.Sprintf("%s%0*d%s", prefix, len(from), n, suffix))
			}
		}
		list = after
	}
	return nodes
}
