package leaf

import (
	"fmt"
	"slices"
)

// Differences lists in what two sums of one host differ, whatever their words and slots are numbered: a sentence for
// each figure, up to so many.
func Differences(kept, found *Leaf, most int) []string {
	was, is := figures(kept), figures(found)
	var keys []string
	for k := range was {
		keys = append(keys, k)
	}
	for k := range is {
		if _, there := was[k]; !there {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	var list []string
	for _, k := range keys {
		a, kept := was[k]
		b, found := is[k]
		switch {
		case a == b && kept == found:
			continue
		case !kept:
			a = "not kept"
		case !found:
			b = "nothing"
		}
		if len(list) < most {
			list = append(list, fmt.Sprintf("%s is %s, and what it is the sum of gives %s", k, a, b))
		}
	}
	return list
}

// figures are all that a leaf tells, by what each is.
func figures(l *Leaf) map[string]string {
	l.Fill()
	type slotKey struct{ slot, at int64 }
	who := map[slotKey]string{}
	t := l.Tables[Who]
	for row := range t.Rows() {
		who[slotKey{t.Of(Slot)[row], t.Of(At)[row]}] = fmt.Sprintf("workload %d of tenant %d", t.Of("workload")[row],
			t.Of("tenant")[row])
	}
	all := map[string]string{}
	for _, name := range order {
		t := l.Tables[name]
		for row := range t.Rows() {
			at := t.Of(At)[row]
			key := name
			for i, c := range t.Schema.Columns[:t.Schema.keys-1] {
				switch v := t.Low[i][row]; {
				case c.Name == Slot:
					key += ", " + who[slotKey{v, at}]
				case c.Word:
					key += fmt.Sprintf(", %s %q", c.Name, l.Words[v])
				default:
					key += fmt.Sprintf(", %s %d", c.Name, v)
				}
			}
			for i, c := range t.Schema.Columns[t.Schema.keys:] {
				value := t.Wide(i+t.Schema.keys, row).String()
				if c.Word {
					value = fmt.Sprintf("%q", l.Words[t.Low[i+t.Schema.keys][row]])
				}
				all[key+": "+c.Name] = value
			}
		}
	}
	return all
}
