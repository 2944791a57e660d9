package explain

import (
	"slices"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/question"
)

// Caveat is what was missed of a resource on some hosts, so that its shares lack it.
type Caveat struct {
	What    string   `json:"what" doc:"Its name, such as ends_lost."`
	Meaning string   `json:"meaning" doc:"What was missed, and where it is instead, in a sentence."`
	Amount  int64    `json:"amount" doc:"How much, in the unit that its meaning names; else in how many readings."`
	Hosts   []string `json:"hosts"`
}

// CaveatsOf are those of what was found that limit the shares of some measures. Those that are not known here, as of a
// newer collector, are left out.
func CaveatsOf(found map[string]question.Caveat, measures ...amount.Measure) (list []Caveat) {
	for c := range account.NumCaveats {
		x, there := found[c.String()]
		if there && slices.ContainsFunc(measures, c.Limits) {
			hosts := slices.Sorted(slices.Values(x.Hosts))
			list = append(list, Caveat{c.String(), c.Meaning(x.Amount), x.Amount, hosts})
		}
	}
	return list
}
