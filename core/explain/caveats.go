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

// Missed is what the figures of a span lack.
type Missed struct {
	Uncovered *Uncovered `json:"uncovered,omitempty" doc:"In which parts some host told nothing; left out for none."`
	Caveats   []Caveat   `json:"caveats,omitempty" doc:"What was missed in the span, so that shares lack it."`
}

// Lacks is m itself: of every answer that holds one, what its figures lack.
func (m *Missed) Lacks() *Missed { return m }

// Nothing tells whether there is nothing of it.
func (m *Missed) Nothing() bool { return m.Uncovered == nil && len(m.Caveats) == 0 }

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
