package explain

import (
	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/question"
)

// NoSum is why what several workloads had of a measure is not told as one figure.
const NoSum = "of several workloads it does not add up: ask by workload"

// Reason says why a sum is not known, or lacks the figures of some; "" where it lacks none.
func Reason(m amount.Measure, s *question.Sum) string {
	switch {
	case s.Untold > 0 && s.Untold >= s.Missing:
		return account.NotRead
	case s.Missing == 0 && !s.Known():
		return NoSum
	case s.Missing == 0:
		return ""
	case m.Entry().NeverOf != "":
		return m.Entry().NeverOf
	}
	return "its host does not count this for it"
}
