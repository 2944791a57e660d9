package glossary

import (
	"strings"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/amount"
	"vinescale/core/leaf"
)

func measures() (list []Entry) {
	for _, m := range amount.Measures() {
		list = append(list, measure(m))
	}
	for i := range leaf.PartFigures() {
		list = append(list, partFigure(&leaf.PartFigures()[i]))
	}
	return list
}

// partFigure explains a figure of hosts' parts.
func partFigure(f *leaf.PartFigure) Entry {
	return Entry{Word: f.Name, Sort: OfMeasure, Title: f.Title, Meaning: f.Meaning, Facts: []Fact{
		{"unit", strings.ReplaceAll(f.Unit.Mean, "_", " ")},
		{"told by", f.Of + ", each apart, whoever uses it"},
		{"over time", amount.Mean.Words()},
		{"asked for by", "vinescale series --of " + f.Name},
	}}
}

// measure explains a measure by the register.
func measure(m amount.Measure) Entry {
	r := m.Entry()
	e := Entry{Word: r.Name, Sort: OfMeasure, Title: r.Title, Meaning: r.Meaning, Facts: []Fact{
		{"unit", strings.ReplaceAll(m.Unit()+", as a mean "+m.MeanUnit(), "_", " ")},
		{"over time", r.Manner.OverTime().Words()},
		{"over workloads", r.Manner.OverWorkloads().Words()},
		{"over hosts", r.Manner.OverHosts().Words()},
		{"held against", r.Bound.Words()},
	}}
	if m.HasLedger() {
		e.Facts = append(e.Facts, Fact{"ledger", "capacity = shares + kernel + idle + residual"})
	} else {
		e.Facts = append(e.Facts, Fact{"of", r.Of.Entry().Title})
	}
	if r.NeverOf != "" {
		e.Facts = append(e.Facts, Fact{"where it is not available", r.NeverOf})
	}
	return e
}

func sources() (list []Entry) {
	for _, s := range amount.Sources() {
		list = append(list, Entry{Word: s.String(), Sort: OfSource, Meaning: s.Meaning()})
	}
	return list
}

func kinds() (list []Entry) {
	for _, k := range amount.Kinds() {
		list = append(list, Entry{Word: k.String(), Sort: OfKind, Meaning: k.Meaning()})
	}
	return list
}

func acts() (list []Entry) {
	for _, r := range act.Entries() {
		forms := make([]string, len(r.Forms))
		for i, f := range r.Forms {
			forms[i] = string(f)
		}
		e := Entry{Word: string(r.Verb), Sort: OfAct, Meaning: r.Meaning,
			Facts: []Fact{{"aimed at", strings.Join(forms, ", ")}}}
		if len(r.Settings) > 0 {
			e.Facts = append(e.Facts, Fact{"settings", strings.Join(r.Settings, ", ")})
		}
		undo := r.Undo
		if undo == "" {
			undo = "nothing"
		}
		list = append(list, Entry{Word: e.Word, Sort: e.Sort, Meaning: e.Meaning,
			Facts: append(e.Facts, Fact{"undone by", undo})})
	}
	return list
}

func caveats() (list []Entry) {
	for c := range account.NumCaveats {
		list = append(list, Entry{Word: c.String(), Sort: OfCaveat, Meaning: c.InGeneral()})
	}
	return list
}
