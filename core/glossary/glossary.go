package glossary

import (
	"cmp"
	"slices"
	"strings"
	"unicode"

	"vinescale/core/amount"
)

// Entry explains one word.
type Entry struct {
	Word    string // as it stands in figures, columns and expressions
	Sort    Sort
	Title   string // for people; empty where the word is fit for them
	Meaning string // in whole sentences
	Facts   []Fact // what more is known of it, in order
	Only    string // of a column: the command whose column it is, where others of that name mean something else
}

// Fact is something that is known of a word.
type Fact struct{ Name, Value string }

// Sort is what sort of word something is.
type Sort string

// The sorts of words, in the order in which they are listed.
const (
	OfTrade   Sort = "word"
	OfLedger  Sort = "line of a ledger"
	OfSource  Sort = "source"
	OfMeasure Sort = "measure"
	OfKind    Sort = "kind of workload"
	OfVerdict Sort = "verdict"
	OfEvent   Sort = "event"
	OfAct     Sort = "act"
	OfCaveat  Sort = "caveat"
	OfColumn  Sort = "column"
)

// Sorts lists the sorts of words.
func Sorts() []Sort {
	return []Sort{OfTrade, OfLedger, OfSource, OfMeasure, OfKind, OfVerdict, OfEvent, OfAct, OfCaveat, OfColumn}
}

// Name is what people call it: its title, or the word with spaces.
func (e *Entry) Name() string { return cmp.Or(e.Title, strings.ReplaceAll(e.Word, "_", " ")) }

// All lists every word, by sort and name; measures stand in the order of their register.
func All() []Entry {
	var list []Entry
	list = append(list, ofTrade...)
	list = append(list, ofLedger...)
	list = append(list, sources()...)
	list = append(list, measures()...)
	list = append(list, kinds()...)
	list = append(list, verdicts...)
	list = append(list, events...)
	list = append(list, acts()...)
	list = append(list, caveats()...)
	for i := range columns {
		list = append(list, Entry{Word: columns[i].name, Sort: OfColumn, Title: columns[i].title,
			Meaning: columns[i].meaning, Only: columns[i].only})
	}
	return list
}

// Column explains the head of a column: by the name that programs know it by, in the listing of a command (such as
// "pins list"). The name may be one of a measure with its unit. The second result tells whether it is explained.
func Column(name, command string) (Entry, bool) {
	group, _, _ := strings.Cut(command, " ")
	var found *Entry
	list := All()
	for i := range list {
		e := &list[i]
		switch {
		case e.Word != name:
		case e.Sort == OfColumn && e.Only != "" && e.Only == group:
			return *e, true
		case e.Sort == OfColumn && e.Only == "", found == nil && e.Only == "" && isHead(e.Sort):
			found = e
		}
	}
	if found != nil {
		return *found, true
	}
	for _, m := range amount.Measures() {
		for _, field := range []struct{ name, what string }{{m.MeanField(), "The mean over the span."},
			{m.AmountField(), "The amount over the span."},
			{PeakField(m), "The highest that was read within the span."}} {
			if field.name == name {
				e := measure(m)
				e.Meaning = field.what + " " + e.Meaning
				return e, true
			}
		}
	}
	return Entry{}, false
}

// isHead tells sorts whose words may be the head of a column.
func isHead(s Sort) bool {
	return s == OfTrade || s == OfLedger || s == OfMeasure
}

// PeakField is the name of a field that holds peaks of a measure.
func PeakField(m amount.Measure) string { return m.String() + "_" + m.MeanUnit() + "_peak" }

// Find finds what explains some words, the best first: those that are called so; those in whose name every word
// stands; those whose meaning has every word. It is empty where nothing has.
func Find(words string) []Entry {
	want := split(words)
	if len(want) == 0 {
		return nil
	}
	type hit struct {
		Entry
		rank int
	}
	var hits []hit
	for _, e := range All() {
		name, title := split(e.Word), split(e.Title)
		switch {
		case slices.Equal(name, want) || slices.Equal(title, want):
			hits = append(hits, hit{e, 0})
		case hasAll(append(name, title...), want):
			hits = append(hits, hit{e, 1})
		case hasAll(append(append(split(e.Meaning), name...), title...), want):
			hits = append(hits, hit{e, 2})
		}
	}
	slices.SortStableFunc(hits, func(a, b hit) int { return a.rank - b.rank })
	list := make([]Entry, len(hits))
	for i := range hits {
		list[i] = hits[i].Entry
	}
	return list
}

// IsCalled tells whether an entry is called by just these words.
func (e *Entry) IsCalled(words string) bool {
	want := split(words)
	return slices.Equal(split(e.Word), want) || slices.Equal(split(e.Title), want)
}

// split takes a text apart into words, in small letters.
func split(text string) []string {
	return strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r)
	})
}

// hasAll tells whether each wanted word begins one of the others.
func hasAll(have, want []string) bool {
	for _, w := range want {
		if !slices.ContainsFunc(have, func(h string) bool { return strings.HasPrefix(h, w) }) {
			return false
		}
	}
	return true
}
