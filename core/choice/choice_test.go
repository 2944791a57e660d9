package choice_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/choice"
	"vinescale/core/folio"
)

func TestCheck_TakesWhatThereIsAndSaysWhatCouldBe(t *testing.T) {
	n := func(i int) *int { return &i }
	colours := map[string]string{}
	for i := range 501 {
		colours[fmt.Sprint(i)] = "#3a6fd8"
	}
	figure := folio.Plate{Of: "memory", Subject: folio.Subject{Kind: "fleet"}}
	for _, c := range []choice.Choices{
		{},
		{Bytes: "binary", Network: "bits", CPU: "percent", Decimals: n(0), Zone: "Europe/Rome", Clock: "12",
			Theme: "dark", Density: "dense", Lines: "smooth", Pace: 60, First: "/hosts?span=24h", StripAt: "away",
			Strip: []folio.Plate{figure, figure, figure, figure, figure, figure}},
		{Bytes: "decimal", Network: "bytes", CPU: "cores", Decimals: n(4), Zone: "UTC", Clock: "24", Theme: "light",
			Density: "airy", Lines: "stepped", Pace: 1, Columns: map[string][]string{"workloads": {"name", "host"}},
			Widths: map[string]map[string]int{"workloads": {"name": 24, "host": 1200}}},
	} {
		assert.NoError(t, c.Check(), "%+v", c)
	}
	many, manyWide := map[string][]string{}, map[string]map[string]int{}
	for i := range 101 {
		many[fmt.Sprint(i)], manyWide[fmt.Sprint(i)] = nil, nil
	}
	for want, c := range map[string]choice.Choices{
		"bytes: \"ternary\" is not to be had: choose binary or decimal": {Bytes: "ternary"},
		"network:":                    {Network: "nibbles"},
		"cpu:":                        {CPU: "hours"},
		"clock:":                      {Clock: "13"},
		"theme:":                      {Theme: "wine"},
		"density:":                    {Density: "thick"},
		"lines:":                      {Lines: "dotted"},
		"decimals:":                   {Decimals: n(5)},
		"pace: 61":                    {Pace: 61},
		"no time zone \"Terra/Nova\"": {Zone: "Terra/Nova"},
		"no time zone \"Local\"":      {Zone: "Local"},
		"first: \"//elsewhere\"":      {First: "//elsewhere"},
		"first: \"hosts\"":            {First: "hosts"},
		"columns: of 101":             {Columns: many},
		"colours: of 501":             {Colours: colours},
		"strip_at: \"left\"":          {StripAt: "left"},
		"strip: 7 figures":            {Strip: make([]folio.Plate, 7)},
		"strip, figure 2: of: there":  {Strip: []folio.Plate{figure, {Of: "grapes"}}},
		"takes too much room":         {Strip: []folio.Plate{{Of: "cpu", Subject: figure.Subject, Form: "line"}}},
		"\"line\" takes too":          {Strip: []folio.Plate{{Of: "cpu", Subject: figure.Subject}}},
		"which host is it of?": {Strip: []folio.Plate{
			{Of: "cpu", Subject: folio.Subject{Kind: "host"}, Form: "number"}}},
		"widths: of 101":              {Widths: manyWide},
		"widths: 23 for \"cpu\"":      {Widths: map[string]map[string]int{"hosts": {"cpu": 23}}},
		"widths: 1201 for \"cpu\"":    {Widths: map[string]map[string]int{"hosts": {"cpu": 1201}}},
		"widths: 40 for \"\"":         {Widths: map[string]map[string]int{"hosts": {"": 40}}},
		"columns: those of \"hosts\"": {Columns: map[string][]string{"hosts": {""}}},
	} {
		assert.ErrorContains(t, c.Check(), want)
	}
	delete(many, "0")
	delete(colours, "0")
	assert.NoError(
		t,
		(&choice.Choices{Columns: many, Colours: colours, First: "/" + strings.Repeat("x", 1999)}).Check(),
	)
	assert.NoError(t, (&choice.Choices{Columns: map[string][]string{strings.Repeat("x", 200): {"x"},
		"x": {strings.Repeat("x", 200)}}}).Check())
	assert.Error(t, (&choice.Choices{First: "/" + strings.Repeat("x", 2000)}).Check())
	assert.Error(t, (&choice.Choices{Columns: map[string][]string{strings.Repeat("x", 201): nil}}).Check())
	assert.Error(t, (&choice.Choices{Columns: map[string][]string{"x": {strings.Repeat("x", 201)}}}).Check())
	assert.Error(t, (&choice.Choices{Decimals: n(-1)}).Check())
	assert.Error(t, (&choice.Choices{Pace: -1}).Check())
	assert.NoError(t, (&choice.Choices{Columns: map[string][]string{"hosts": make100()}}).Check())
	assert.Error(t, (&choice.Choices{Columns: map[string][]string{"hosts": append(make100(), "x")}}).Check())
}

func make100() (names []string) {
	for i := range 100 {
		names = append(names, fmt.Sprint("column", i))
	}
	return names
}

func TestParse_ReadsALineAndStandsOverWhatIsKept(t *testing.T) {
	c, err := choice.Parse("bytes=decimal, cpu=limit,decimals=1,zone=Europe/Rome,clock=12,network=bits,")
	require.NoError(t, err)
	one := 1
	assert.Equal(t, choice.Choices{Bytes: "decimal", CPU: "limit", Decimals: &one, Zone: "Europe/Rome", Clock: "12",
		Network: "bits"}, c)
	none, err := choice.Parse("")
	require.NoError(t, err)
	kept := choice.Choices{Bytes: "binary", CPU: "host", Theme: "dark", Clock: "24"}
	assert.Equal(t, kept, none.Over(kept))
	some, err := choice.Parse("bytes=decimal,decimals=0")
	require.NoError(t, err)
	zero := 0
	assert.Equal(t, choice.Choices{Bytes: "decimal", CPU: "host", Theme: "dark", Clock: "24", Decimals: &zero},
		some.Over(kept))
	for line, want := range map[string]string{"bytes": "write it as", "theme=dark": "no choice \"theme\" here",
		"decimals=x": "no number", "decimals=9": "0 to 4", "bytes=x": "choose binary or decimal",
		"zone=Mars/Base": "no time zone"} {
		_, err := choice.Parse(line)
		assert.ErrorContains(t, err, want, line)
	}
}
