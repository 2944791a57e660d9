package folio_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/amount"
	"vinescale/core/folio"
	"vinescale/core/leaf"
)

func of(p folio.Plate) *folio.Folio {
	return &folio.Folio{Format: 1, Title: "Press night", Rows: []folio.Row{{Plates: []folio.Plate{p}}}}
}

func TestShipped_AreWholeAndSayWhatEachPlateIs(t *testing.T) {
	var names []string
	for _, n := range folio.Shipped() {
		names = append(names, n.Name)
		require.NoError(t, n.Check(), n.Name)
		found, is := folio.ShippedNamed(n.Name)
		assert.True(t, is)
		assert.Equal(t, n.Folio, found)
	}
	assert.Equal(t, []string{"fleet", "one-host", "gpus", "storage", "sign-ins"}, names)
	_, is := folio.ShippedNamed("cellar")
	assert.False(t, is)
}

func TestForms_AreProposedByWhatAMeasureIs(t *testing.T) {
	for _, c := range []struct {
		of, by, subject string
		want            string
	}{
		{"memory", "", folio.Host, "filled line number table"},
		{"memory", "", folio.User, "line number table"},
		{"cpu", "", folio.Fleet, "line number table filled"},
		{"cpu", "", folio.Host, "line number table filled placement"},
		{"cpu", "", folio.Workload, "line number table filled"},
		{"cpu", "", folio.Where, "line number table"},
		{"memory_oom_kills", "", folio.Fleet, "number line table"},
		{"memory_high_bytes", "", folio.Workload, "number line table"},
		{"cpu", "tenant", folio.Pool, "stack parts bars table"},
		{"cpu", "workload", folio.Tenant, "stack bars table"},
		{"memory", "tenant", folio.Fleet, "parts stack bars table"},
		{"memory_anon_bytes", "workload", folio.Host, "bars stack table"},
		{"memory_high_bytes", "workload", folio.Host, "bars line table"},
		{"cpu_pressure_some_us", "workload", folio.Host, "line bars table"},
		{"disk_reads", "user", folio.Fleet, "stack bars table"},
		{"events", "", folio.Fleet, "table number"},
		{"drives", "", folio.Host, "bars table"},
		{"drive_latency_ms", "", folio.Fleet, "line bars table"},
		{"sensor_celsius", "", folio.Host, "line bars table"},
	} {
		m, err := folio.Find(c.of)
		require.NoError(t, err)
		var got []string
		for _, f := range m.Forms(c.by != "", c.subject) {
			got = append(got, string(f))
		}
		assert.Equal(t, c.want, strings.Join(got, " "), "%+v", c)
	}
	p := folio.Plate{Of: "memory", Subject: folio.Subject{Kind: folio.Fleet}}
	assert.Equal(t, folio.Filled, p.Drawn())
	p.By = "tenant"
	assert.Equal(t, folio.Parts, p.Drawn())
	p.Form = "table"
	assert.Equal(t, folio.Table, p.Drawn())
	p.Of = "grapes"
	p.Form = ""
	assert.Empty(t, p.Drawn())
}

func TestMatters_AreEveryMeasureAndTheLists(t *testing.T) {
	all := folio.Matters()
	require.Greater(t, len(all), amount.NumMeasures+len(leaf.PartFigures()))
	for i := range all {
		m := &all[i]
		assert.NotEmpty(t, m.Meaning, m.Name)
		assert.NotEmpty(t, m.Title, m.Name)
		for _, s := range m.Subjects {
			for _, isGrouped := range []bool{false, true} {
				for _, f := range m.Forms(isGrouped, s) {
					p := folio.Plate{Of: m.Name, Subject: folio.Subject{Kind: s, Name: "1"}, Form: string(f)}
					if s == folio.Fleet {
						p.Subject.Name = ""
					}
					if isGrouped && len(m.Groupings) > 0 {
						p.By = m.Groupings[0]
					}
					if isGrouped == (p.By != "") {
						assert.NoError(t, p.Check(), "%+v", p)
					}
				}
			}
		}
	}
	assert.Contains(t, all[amount.CPU].Groupings, "cpu")
	assert.NotContains(t, all[amount.Memory].Groupings, "cpu")
	assert.Contains(t, all[amount.Memory].Groupings, "program")
	assert.NotContains(t, all[amount.DiskReads].Groupings, "program")
}

func TestCheck_SaysWhereAndWhatCouldBe(t *testing.T) {
	fleet := folio.Subject{Kind: folio.Fleet}
	good := folio.Plate{Of: "cpu", Subject: folio.Subject{Kind: folio.Host, Name: "cellar-1"}, By: "label:vintage",
		First: 50, Form: "bars", Step: "2d", Width: 6, Colour: 8, Title: strings.Repeat("ü", 120)}
	require.NoError(t, of(good).Check())
	for want, p := range map[string]folio.Plate{
		"row 1, plate 1: of: there is no measure or list \"grapes\"": {Of: "grapes", Subject: fleet},
		"subject: kind: \"cask\" is none: choose one of fleet, pool": {Of: "cpu", Subject: folio.Subject{Kind: "cask"}},
		"sensors is not told of a tenant: choose one of fleet, host": {Of: "sensors",
			Subject: folio.Subject{Kind: folio.Tenant}},
		"the fleet has none, so not \"x\"": {Of: "cpu", Subject: folio.Subject{Kind: folio.Fleet, Name: "x"}},
		"name: which pool is it of?":       {Of: "cpu", Subject: folio.Subject{Kind: folio.Pool}},
		"\"must\" is no workload's number": {Of: "cpu", Subject: folio.Subject{Kind: folio.Workload, Name: "must"}},
		"by: cannot group by \"vat\"":      {Of: "cpu", Subject: fleet, By: "vat"},
		"by: only CPU time can be told":    {Of: "memory", Subject: fleet, By: "cpu"},
		"by: events are listed":            {Of: "events", Subject: fleet, By: "host"},
		"form: \"parts\" makes no sense of cpu of a user by kind: choose stack, bars, table": {Of: "cpu", By: "kind",
			Form: "parts", Subject: folio.Subject{Kind: folio.User, Name: "vera"}},
		"form: \"stack\" makes no sense of cpu of a fleet: choose line": {Of: "cpu", Subject: fleet, Form: "stack"},
		"step: \"7m\" is not to be had":                                 {Of: "cpu", Subject: fleet, Step: "7m"},
		"first: 51":                                                     {Of: "cpu", Subject: fleet, First: 51},
		"width: 7":                                                      {Of: "cpu", Subject: fleet, Width: 7},
		"colour: 9":                                                     {Of: "cpu", Subject: fleet, Colour: 9},
		"title: it is longer": {Of: "cpu", Subject: fleet,
			Title: strings.Repeat("x", 121)},
		"title: there is something in it": {Of: "cpu", Subject: fleet, Title: "a\nb"},
	} {
		assert.ErrorContains(t, of(p).Check(), want)
	}
	for _, p := range []folio.Plate{{Of: "cpu", Subject: fleet, First: -1}, {Of: "cpu", Subject: fleet, Width: -1},
		{Of: "cpu", Subject: fleet, Colour: -1}} {
		assert.Error(t, of(p).Check())
	}
	plate := folio.Plate{Of: "cpu", Subject: fleet}
	rows := func(rows, plates int) (list []folio.Row) {
		for range rows {
			r := folio.Row{}
			for range plates {
				r.Plates = append(r.Plates, plate)
			}
			list = append(list, r)
		}
		return list
	}
	for want, f := range map[string]*folio.Folio{
		"format: 2 is not known":   {Format: 2, Title: "x"},
		"title: a folio needs one": {Format: 1, Title: " "},
		"about: it is longer":      {Format: 1, Title: "x", About: strings.Repeat("x", 601)},
		"rows: 41 of them":         {Format: 1, Title: "x", Rows: rows(41, 1)},
		"row 1: it has 0 plates":   {Format: 1, Title: "x", Rows: rows(1, 0)},
		"row 1: it has 7 plates":   {Format: 1, Title: "x", Rows: rows(1, 7)},
		"102 plates are more":      {Format: 1, Title: "x", Rows: rows(17, 6)},
		"height: \"tall\"":         {Format: 1, Title: "x", Rows: []folio.Row{{Height: "tall"}}},
	} {
		assert.ErrorContains(t, f.Check(), want)
	}
	assert.NoError(t, (&folio.Folio{Format: 1, Title: "x", Rows: rows(40, 2)}).Check())
	assert.NoError(t, (&folio.Folio{Format: 1, Title: "x", Rows: rows(20, 5)}).Check(), "a hundred")
	assert.NoError(t, (&folio.Folio{Format: 1, Title: "x"}).Check(), "one that is empty yet")
}

func TestNameOf_IsFitForAnAddress(t *testing.T) {
	for title, want := range map[string]string{
		"Press night": "press-night", "  Fass & Füllung!  ": "fass-füllung", "??": "folio", "a/b": "a-b",
		strings.Repeat("ab", 40): strings.Repeat("ab", 30),
	} {
		assert.Equal(t, want, folio.NameOf(title), title)
	}
}

func TestFolio_KeepsItsShape(t *testing.T) {
	f, _ := folio.ShippedNamed("one-host")
	raw, err := json.Marshal(f)
	require.NoError(t, err)
	var back folio.Folio
	require.NoError(t, json.Unmarshal(raw, &back))
	assert.Equal(t, f, back)
	assert.Contains(t, string(raw), `{"of":"cpu","subject":{"kind":"host"},"form":"placement"}`)
}
