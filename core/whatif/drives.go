package whatif

import (
	"fmt"
	"strings"
)

// unjudged says of which hosts something of the drives is not known.
func unjudged(rooms []Room) []string {
	var rates, spaces []string
	for i := range rooms {
		if rooms[i].Drives.Rate <= 0 {
			rates = append(rates, rooms[i].Host)
		}
		if rooms[i].Drives.Size <= 0 {
			spaces = append(spaces, rooms[i].Host)
		}
	}
	notes := []string{}
	if len(rates) > 0 {
		notes = append(notes, "How much the drives carry is not judged on "+hostsOf(rates)+
			": no rate was declared for them to the collector.")
	}
	if len(spaces) > 0 {
		notes = append(notes, "Space for files is not judged on "+hostsOf(spaces)+
			": of no filesystem there it is known what is free.")
	}
	return notes
}

// hostsOf names some hosts, not too many.
func hostsOf(names []string) string {
	const most = 5
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return strings.Join(names, ", ")
}

// lacksDrives says that a workload has a place but for its files or for what it moves to and from drives; "" where that
// is not what keeps it.
func (l *Load) lacksDrives(others []space) string {
	var files, moves *space // that with the most space, and of those that hold its files the one that carries most
	for i := range others {
		s := &others[i]
		if !s.computes(l) {
			continue
		}
		if s.stores(l) {
			return ""
		}
		if files == nil || s.space > files.space {
			files = s
		}
		if s.holds(l) && (moves == nil || s.rate > moves.rate) {
			moves = s
		}
	}
	switch {
	case files == nil:
		return ""
	case moves == nil:
		return fmt.Sprintf("It cannot be emptied: the files of %s take %s; where else it fits, the most free is %s, "+
			"on %s.", l.Name, Amount("memory", l.Space), Amount("memory", max(files.space, 0)), files.host)
	}
	return fmt.Sprintf("It cannot be emptied: %s moves %s to and from drives; where else it fits, the most free is "+
		"%s, on %s.", l.Name, Figure("disk", l.Rate), Figure("disk", max(moves.rate, 0)), moves.host)
}
