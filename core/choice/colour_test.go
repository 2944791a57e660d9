package choice

import (
	"fmt"
	"math"
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPalette_IsThatOfTheConsole(t *testing.T) {
	css, err := os.ReadFile("../../web/src/styles/tokens.css")
	require.NoError(t, err)
	found := regexp.MustCompile(`--(t[1-8]|sheet): (#[0-9a-f]{6})`).FindAllStringSubmatch(string(css), -1)
	at := map[string][]string{}
	for _, f := range found {
		at[f[1]] = append(at[f[1]], f[2])
	}
	assert.Equal(t, sheets[:], at["sheet"])
	for i := range palette[0] {
		assert.Equal(t, []string{palette[0][i], palette[1][i]}, at[fmt.Sprintf("t%d", i+1)])
	}
}

// TestPalette_IsToldApart holds the usual colours to what is asked of chosen ones, as far as they keep it.
func TestPalette_IsToldApart(t *testing.T) {
	for look := range palette {
		least := math.Inf(1)
		for i := range palette[look] {
			a, err := parseColour(palette[look][i])
			require.NoError(t, err)
			sheet, err := parseColour(sheets[look])
			require.NoError(t, err)
			if i != 4 && i != 5 { // the light ones of the light look, which are drawn in areas
				assert.GreaterOrEqual(t, contrast(a, sheet), float64(leastContrast), palette[look][i])
			}
			for k := range i {
				b, err := parseColour(palette[look][k])
				require.NoError(t, err)
				for e := range eyes {
					least = min(least, apart(a, b, &eyes[e].matrix))
				}
			}
		}
		assert.GreaterOrEqual(t, least, leastApart, looks[look])
	}
}

func TestContrast_IsThatOfTheStandard(t *testing.T) {
	of := func(a, b string) float64 {
		x, err := parseColour(a)
		require.NoError(t, err)
		y, err := parseColour(b)
		require.NoError(t, err)
		return contrast(x, y)
	}
	assert.InDelta(t, 21, of("#000000", "#ffffff"), 1e-9)
	assert.InDelta(t, 4.54, of("#767676", "#ffffff"), 0.01)
	assert.InDelta(t, 4, of("#ff0000", "#ffffff"), 0.01)
	white := oklab(linear{1, 1, 1})
	assert.InDeltaSlice(t, []float64{1, 0, 0}, white[:], 1e-4)
	for i := range eyes {
		grey := times(&eyes[i].matrix, linear{0.5, 0.5, 0.5})
		assert.InDeltaSlice(t, []float64{0.5, 0.5, 0.5}, grey[:], 1e-3, "grey is grey to %s", eyes[i].name)
	}
}

func TestCheckColours_SaysWhoCannotTellWhich(t *testing.T) {
	tenants := map[string]int{"Frost Watch": 2, "Leaf Vision": 3, "Cellar Intake": 4, "Unnumbered": 0}
	check := func(chosen map[string]string) error { return CheckColours(chosen, nil, tenants) }
	require.NoError(t, check(nil))
	require.NoError(t, check(map[string]string{"Frost Watch": "#3a6fd8", "Gone": "#b8468c"}))
	require.NoError(t, check(map[string]string{"Unnumbered": "#3a6fd8"}))
	for want, chosen := range map[string]map[string]string{
		"Leaf Vision: \"blue\" is no colour":                    {"Leaf Vision": "blue"},
		"Leaf Vision: \"\" is no colour":                        {"Leaf Vision": ""},
		"\"#12345g\" is no colour":                              {"Leaf Vision": "#12345g"},
		"#f5e663 is hardly seen in the light look":              {"Leaf Vision": "#f5e663"},
		"#202830 is hardly seen in the dark look":               {"Leaf Vision": "#202830"},
		"in the light look, most eyes cannot tell its colour f": {"Leaf Vision": "#c8571c"},
		"cannot tell its colour from that of Leaf Vision":       {"Frost Watch": "#3a6fd8", "Leaf Vision": "#3b70d8"},
	} {
		assert.ErrorContains(t, check(chosen), want)
	}
	// Red and green of the same lightness are the same to eyes that lack the cones for green, and to no others.
	near := map[string]string{"a": "#b0571f", "b": "#6d7a1c"}
	err := CheckColours(near, nil, map[string]int{"a": 1, "b": 2})
	assert.ErrorContains(t, err, "eyes without cones for")
	// What was kept before the other tenant came stays, and what is new is held against it.
	assert.NoError(t, CheckColours(near, near, map[string]int{"a": 1, "b": 2}))
	err = CheckColours(near, map[string]string{"a": "#b0571f"}, map[string]int{"a": 1, "b": 2})
	assert.ErrorContains(t, err, "colours: b:")
}
