package cli

import (
	"fmt"
	"io"
	"math"
	"time"

	"vinescale/core/amount"
	"vinescale/core/explain"
)

// printShort lists hosts that were short of CPU time: who had more of it, and who less, than by weight.
func printShort(w io.Writer, of string, b *explain.Balance) error {
	if len(b.Short) == 0 || of != "all" && of != amount.CPU.String() {
		return nil
	}
	fmt.Fprintln(w)
	t := newTable(w)
	t.row(cell{"Short of CPU", false}, cell{"tenant", false}, cell{"had, cores", true}, cell{"by weight", true},
		cell{"more", true}, cell{"waited", true}, cell{"furthest from its share", false})
	for i := range b.Short {
		s := &b.Short[i]
		for k := range s.Of {
			f := &s.Of[k]
			host, most := "", ""
			if k == 0 {
				if host = s.Host; s.CPUs != "" {
					host += ", CPUs " + s.CPUs
				}
			}
			if f.Most != nil && math.Abs(f.Most.Ran-f.Most.Fair) >= 0.01*s.Long {
				most = fmt.Sprintf("%s, %+.2f", f.Most.Name, (f.Most.Ran-f.Most.Fair)/s.Long)
			}
			cores := func(seconds float64) cell { return cell{fmt.Sprintf("%.2f", seconds/s.Long), true} }
			t.row(cell{host, false}, cell{f.Tenant, false}, cores(f.Ran), cores(f.Fair),
				cell{fmt.Sprintf("%+.2f", f.More/s.Long), true}, cores(f.Waited), cell{most, false})
		}
	}
	if err := t.flush(); err != nil {
		return err
	}
	for i := range b.Short {
		s := &b.Short[i]
		where := s.Host
		if s.CPUs != "" {
			where = "CPUs " + s.CPUs + " of " + s.Host
		}
		text := fmt.Sprintf(
			"*  %s: in %s between %s and %s three quarters of it or more was used, and threads waited. "+
				"The busiest %s were looked into",
			visible(where),
			explain.Lasted(time.Duration(s.Long)*time.Second),
			momentText(&s.From),
			momentText(&s.To),
			explain.Lasted(time.Duration(s.Looked)*time.Second),
		)
		if s.Untold > 0 {
			text += fmt.Sprintf("; %d workloads do not tell for how long they waited", s.Untold)
		}
		fmt.Fprintln(w, folded(text+"."))
	}
	return nil
}
