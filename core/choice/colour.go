package choice

import (
	"fmt"
	"math"
	"slices"
	"strconv"
)

// The colours that tenants have by their numbers, from 1 on, in the light and in the dark look, and the sheets that
// they are drawn on. They are those of the console's tokens.css.
var (
	palette = [2][]string{
		{"#1f6fa8", "#c8571b", "#12836a", "#b2628f", "#c99211", "#5aa5cf", "#513a8c", "#7c6a45"},
		{"#5aa9dd", "#f0854a", "#3fbf9f", "#dc93bb", "#e6b745", "#9ad3ef", "#8e6ad6", "#b8a57c"},
	}
	sheets = [2]string{"#fffefb", "#1b1f1b"}
	looks  = [2]string{"light", "dark"}
)

const (
	// leastContrast is that of WCAG 2.2 for what is drawn and must be told from what it is drawn on (1.4.11).
	leastContrast = 3
	// leastApart is how far colours must be from each other in OKLab, for whoever sees them. About 0.02 is just seen.
	leastApart = 0.03
)

// eyes are the ways of seeing that colours are checked for: as most do, and as those who lack one kind of cones, by the
// matrices for linear RGB of Machado, Oliveira and Fernandes (2009), severity 1.
var eyes = []struct {
	name   string
	matrix [3][3]float64
}{
	{"most eyes", [3][3]float64{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}}},
	{"eyes without cones for red", [3][3]float64{{0.152286, 1.052583, -0.204868}, {0.114503, 0.786281, 0.099216},
		{-0.003882, -0.048116, 1.051998}}},
	{"eyes without cones for green", [3][3]float64{{0.367322, 0.860646, -0.227968}, {0.280085, 0.672501, 0.047413},
		{-0.011820, 0.042940, 0.968881}}},
	{"eyes without cones for blue", [3][3]float64{{1.255528, -0.076749, -0.178779}, {-0.078411, 0.930809, 0.147602},
		{0.004733, 0.691367, 0.303900}}},
}

// linear is a colour in linear RGB, each from 0 to 1.
type linear [3]float64

// parseColour reads a colour written as #rrggbb, which is in sRGB.
func parseColour(text string) (c linear, err error) {
	n, err := strconv.ParseUint(text[min(len(text), 1):], 16, 32)
	if len(text) != 7 || text[0] != '#' || err != nil {
		return c, fmt.Errorf("%q is no colour: write it as #1f6fa8", text)
	}
	for i := range c {
		v := float64(n>>(16-8*i)&0xff) / 255
		if c[i] = v / 12.92; v > 0.04045 {
			c[i] = math.Pow((v+0.055)/1.055, 2.4)
		}
	}
	return c, nil
}

// contrast is that of two colours by WCAG 2.2: from 1 to 21.
func contrast(a, b linear) float64 {
	luminance := func(c linear) float64 { return 0.2126*c[0] + 0.7152*c[1] + 0.0722*c[2] + 0.05 }
	x, y := luminance(a), luminance(b)
	return max(x, y) / min(x, y)
}

// times is a matrix times a colour.
func times(m *[3][3]float64, c linear) (x linear) {
	for i := range m {
		for k := range c {
			x[i] += m[i][k] * c[k]
		}
	}
	return x
}

// oklab is a colour in OKLab (Ottosson 2020), in which distances are as they are seen.
func oklab(c linear) linear {
	x := times(&[3][3]float64{{0.4122214708, 0.5363325363, 0.0514459929}, {0.2119034982, 0.6806995451, 0.1073969566},
		{0.0883024619, 0.2817188376, 0.6299787005}}, c)
	for i := range x {
		x[i] = math.Cbrt(x[i])
	}
	return times(&[3][3]float64{{0.2104542553, 0.7936177850, -0.0040720468},
		{1.9779984951, -2.4285922050, 0.4505937099}, {0.0259040371, 0.7827717662, -0.8086757660}}, x)
}

// apart is how far two colours are from each other for some eyes.
func apart(a, b linear, eye *[3][3]float64) float64 {
	x, y := oklab(times(eye, a)), oklab(times(eye, b))
	return math.Hypot(math.Hypot(x[0]-y[0], x[1]-y[1]), x[2]-y[2])
}

// CheckColours says which of a person's colours of tenants cannot be seen well in either look, or told from another
// tenant's. Those that are kept already are not held against a person again: tenants come and go, and nobody should
// have to choose anew for that. The tenants are those of the site with the numbers of their usual colours.
func CheckColours(chosen, kept map[string]string, tenants map[string]int) error {
	names := make([]string, 0, len(chosen))
	for name := range chosen {
		if chosen[name] != kept[name] || chosen[name] == "" {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		c, err := parseColour(chosen[name])
		if err != nil {
			return fmt.Errorf("colours: %s: %w", name, err)
		}
		for i, look := range looks {
			sheet, err := parseColour(sheets[i])
			if err != nil {
				return err
			}
			if got := contrast(c, sheet); got < leastContrast {
				return fmt.Errorf("colours: %s: %s is hardly seen in the %s look: its contrast is %.1f, and takes %d",
					name, chosen[name], look, got, leastContrast)
			}
		}
		if err := toldApart(name, c, chosen, tenants); err != nil {
			return err
		}
	}
	return nil
}

// toldApart holds a colour against those of all other tenants, in both looks.
func toldApart(name string, c linear, chosen map[string]string, tenants map[string]int) error {
	others := make([]string, 0, len(tenants))
	for other := range tenants {
		others = append(others, other)
	}
	slices.Sort(others)
	for _, other := range others {
		if other == name {
			continue
		}
		for i, look := range looks {
			text := chosen[other]
			if n := tenants[other]; text == "" && n >= 1 && n <= len(palette[i]) {
				text = palette[i][n-1]
			}
			o, err := parseColour(text)
			if err != nil {
				continue // it is told where it is that tenant's turn, or has no colour
			}
			for k := range eyes {
				if apart(c, o, &eyes[k].matrix) < leastApart {
					return fmt.Errorf(
						"colours: %s: in the %s look, %s cannot tell its colour from that of %s",
						name,
						look,
						eyes[k].name,
						other,
					)
				}
			}
		}
	}
	return nil
}
