package glossary_test

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/act"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/glossary"
	"vinescale/core/leaf"
)

func words(sort glossary.Sort) map[string]glossary.Entry {
	all := map[string]glossary.Entry{}
	for _, e := range glossary.All() {
		if e.Sort == sort {
			all[e.Word] = e
		}
	}
	return all
}

func TestAll_EveryWordIsExplainedOnceAndInSentences(t *testing.T) {
	seen := map[string]bool{}
	for _, e := range glossary.All() {
		key := fmt.Sprint(e.Sort, " ", e.Word, " ", e.Only)
		assert.False(t, seen[key], "%s is explained twice", key)
		seen[key] = true
		require.NotEmpty(t, e.Meaning, key)
		first := []rune(e.Meaning)[0]
		assert.True(t, unicode.IsUpper(first) || unicode.IsDigit(first) || first == '…', "%s: %s", key, e.Meaning)
		assert.True(t, strings.HasSuffix(e.Meaning, "."), "%s: %s", key, e.Meaning)
		assert.NotContains(t, e.Meaning, "%", key)
		assert.Contains(t, glossary.Sorts(), e.Sort)
		for _, f := range e.Facts {
			assert.NotEmpty(t, f.Value, "%s: %s", key, f.Name)
		}
	}
}

// TestAll_WhatTheBookConcludesIsExplained holds the words against the constants that conclusions are made of.
func TestAll_WhatTheBookConcludesIsExplained(t *testing.T) {
	events, verdicts := words(glossary.OfEvent), words(glossary.OfVerdict)
	for _, k := range explain.EventKinds() {
		assert.Contains(t, events, k)
	}
	constants := func(file, pattern string) (names []string) {
		source, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(pattern).FindAllStringSubmatch(string(source), -1) {
			names = append(names, m[1])
		}
		require.NotEmpty(t, names, file)
		return names
	}
	for _, v := range append(append(constants("../explain/pins.go", `\tPin[A-Z]\w+ += "(\w+)"`),
		constants("../explain/allowance.go", `\tAllowance[A-Z]\w+ += "(\w+)"`)...),
		constants("../act/preview.go", `State += "(\w+)"`)...) {
		_, isEvent := events[v]
		assert.True(t, isEvent || verdicts[v].Meaning != "", "the verdict %q is not explained", v)
	}
	assert.Len(t, words(glossary.OfMeasure), amount.NumMeasures+len(leaf.PartFigures()))
	assert.Len(t, words(glossary.OfAct), len(act.Verbs()))
	assert.Len(t, words(glossary.OfSource), 5)
	for _, k := range amount.Kinds() {
		read, err := amount.ParseKind(k.String())
		require.NoError(t, err)
		assert.Equal(t, k, read)
		assert.Contains(t, words(glossary.OfKind), k.String())
	}
}

func TestColumn_IsThatOfItsCommandAWordOrAMeasure(t *testing.T) {
	meaning := func(name, command string) string {
		e, is := glossary.Column(name, command)
		require.True(t, is, name)
		return e.Meaning
	}
	assert.Contains(t, meaning("held", "unused"), "What the tenant holds")
	assert.Contains(t, meaning("held", "balance"), "What a workload is entitled to")
	assert.Contains(t, meaning("tenant", "share"), "Whom usage is accounted to")
	assert.Contains(t, meaning("source", "share"), "How the figure was obtained", "a column before any other sort")
	assert.True(t, strings.HasPrefix(meaning("cpu_cores_mean", "workloads"), "The mean over the span. CPU time"))
	assert.True(t, strings.HasPrefix(meaning("cpu_seconds", "workloads"), "The amount over the span. CPU time"))
	assert.True(t, strings.HasPrefix(meaning(glossary.PeakField(amount.CPU), "workloads"), "The highest that was read"))
	_, is := glossary.Column("must", "share")
	assert.False(t, is)
	_, is = glossary.Column("killed", "share")
	assert.False(t, is, "a kind of event is the head of no column")
}

func TestFind_TheBestFirst(t *testing.T) {
	found := func(text string) (names []string) {
		for _, e := range glossary.Find(text) {
			names = append(names, e.Word)
		}
		return names
	}
	assert.Equal(t, "residual", found("Residual")[0])
	assert.Equal(t, "memory_working_set_bytes", found("working set")[0], "by the beginnings of its words")
	assert.Equal(t, "gpu_memory", found("gpu-memory")[0], "signs do not matter")
	assert.Equal(t, "gpu_memory", found("GPU memory")[0], "nor do capital letters")
	assert.Contains(t, found("sharers"), "memory_proportional_bytes", "by its explanation")
	assert.Empty(t, found("xyzzy"))
	assert.Empty(t, found("  "))
	idle := glossary.Find("idle")
	assert.True(t, idle[0].IsCalled("idle"))
	assert.True(t, idle[1].IsCalled("idle"), "a line of ledgers, and a verdict")
	assert.False(t, idle[2].IsCalled("idle"))
	assert.NotEqual(t, idle[0].Sort, idle[1].Sort)
}

func ExampleFind() {
	e := glossary.Find("residual")[0]
	fmt.Printf("%s, a %s\n", e.Name(), e.Sort)
	// Output: residual, a line of a ledger
}
