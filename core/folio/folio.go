package folio

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Format is the version of the format in which folios are kept and taken away.
const Format = 1

// Folio is a page of plates in rows.
type Folio struct {
	Format int    `json:"format" minimum:"1" doc:"Version of this format: 1."`
	Title  string `json:"title" minLength:"1" maxLength:"120"`
	About  string `json:"about,omitempty" maxLength:"600" doc:"What it is for, in a sentence or two."`
	Rows   []Row  `json:"rows" maxItems:"40" doc:"From the top down."`
}

// Row is plates beside each other.
type Row struct {
	Height string  `json:"height,omitempty" enum:",low,high" doc:"How high it is; empty for as usual."`
	Plates []Plate `json:"plates" minItems:"1" maxItems:"6" doc:"From the left to the right."`
}

// Plate is one figure or drawing.
type Plate struct {
	Title   string  `json:"title,omitempty" maxLength:"120" doc:"Empty for what it shows, in words."`
	Of      string  `json:"of" doc:"A measure of the register, a figure of hosts' parts, or a list such as events."`
	Subject Subject `json:"subject"`
	By      string  `json:"by,omitempty" doc:"What it is grouped by, as of a series; empty for all in one."`
	First   int     `json:"first,omitempty" minimum:"0" maximum:"50" doc:"Groups or lines told apart; 0 for as usual."`
	Form    string  `json:"form,omitempty" doc:"How it is drawn; empty for what is proposed."`
	Step    string  `json:"step,omitempty" doc:"Of a drawing over time, as of a series; empty for what suits the span."`
	Width   int     `json:"width,omitempty" minimum:"0" maximum:"6" doc:"Against the others of its row; 0 is 1."`
	Colour  int     `json:"colour,omitempty" minimum:"0" maximum:"8" doc:"Of its first group; 0 for as usual."`
}

// Subject is whose figures a plate shows.
type Subject struct {
	Kind string `json:"kind" enum:"fleet,pool,host,tenant,user,workload,where"`
	Name string `json:"name,omitempty" maxLength:"2000" doc:"Whose; a host or tenant without is chosen on the page."`
}

// The kinds of subjects.
const (
	Fleet    = "fleet"
	Pool     = "pool"
	Host     = "host"
	Tenant   = "tenant"
	User     = "user"
	Workload = "workload" // by its number
	Where    = "where"    // the workloads that an expression matches
)

// Subjects lists the kinds of subjects.
func Subjects() []string { return []string{Fleet, Pool, Host, Tenant, User, Workload, Where} }

const (
	mostRows    = 40
	mostInRow   = 6
	mostPlates  = 100
	mostTitle   = 120
	mostAbout   = 600
	mostName    = 2000
	mostFirst   = 50
	mostColours = 8
)

// Steps are how long the steps of a drawing over time may be.
func Steps() []string {
	return []string{"1m", "2m", "5m", "10m", "15m", "20m", "30m", "1h", "2h", "3h", "4h", "6h", "12h", "1d", "2d"}
}

// Check says what of a folio cannot be kept: where it is, why, and what could be.
func (f *Folio) Check() error {
	if f.Format != Format {
		return fmt.Errorf("format: %d is not known here: this service reads format %d", f.Format, Format)
	}
	if err := text("title", f.Title, mostTitle); err != nil {
		return err
	}
	if strings.TrimSpace(f.Title) == "" {
		return errors.New("title: a folio needs one")
	}
	if err := text("about", f.About, mostAbout); err != nil {
		return err
	}
	if len(f.Rows) > mostRows {
		return fmt.Errorf("rows: %d of them are more than %d", len(f.Rows), mostRows)
	}
	plates := 0
	for i := range f.Rows {
		r := &f.Rows[i]
		at := fmt.Sprintf("row %d", i+1)
		if !slices.Contains([]string{"", "low", "high"}, r.Height) {
			return fmt.Errorf(
				"%s: height: %q is not to be had: choose low or high, or nothing for as usual",
				at,
				r.Height,
			)
		}
		if n := len(r.Plates); n == 0 || n > mostInRow {
			return fmt.Errorf("%s: it has %d plates: a row has 1 to %d", at, n, mostInRow)
		}
		for k := range r.Plates {
			if err := r.Plates[k].Check(); err != nil {
				return fmt.Errorf("%s, plate %d: %w", at, k+1, err)
			}
			plates++
		}
	}
	if plates > mostPlates {
		return fmt.Errorf("rows: %d plates are more than %d", plates, mostPlates)
	}
	return nil
}

// Check says what of a plate cannot be shown, and what could be.
func (p *Plate) Check() error {
	if err := text("title", p.Title, mostTitle); err != nil {
		return err
	}
	m, err := Find(p.Of)
	if err != nil {
		return fmt.Errorf("of: %w", err)
	}
	if err := p.Subject.check(m); err != nil {
		return fmt.Errorf("subject: %w", err)
	}
	if p.By != "" {
		if err := m.canGroup(p.By); err != nil {
			return fmt.Errorf("by: %w", err)
		}
	}
	forms := m.Forms(p.By != "", p.Subject.Kind)
	if p.Form != "" && !slices.Contains(forms, Form(p.Form)) {
		return fmt.Errorf("form: %q makes no sense of %s of a %s%s: choose %s", p.Form, m.Name, p.Subject.Kind,
			grouped(p.By), orList(forms))
	}
	if p.Step != "" && !slices.Contains(Steps(), p.Step) {
		return fmt.Errorf("step: %q is not to be had: choose one of %s", p.Step, strings.Join(Steps(), ", "))
	}
	switch {
	case p.First < 0 || p.First > mostFirst:
		return fmt.Errorf("first: %d is not to be had: choose 1 to %d, or 0 for as usual", p.First, mostFirst)
	case p.Width < 0 || p.Width > mostInRow:
		return fmt.Errorf("width: %d is not to be had: choose 1 to %d", p.Width, mostInRow)
	case p.Colour < 0 || p.Colour > mostColours:
		return fmt.Errorf("colour: %d is not to be had: choose 1 to %d, or 0 for as usual", p.Colour, mostColours)
	}
	return nil
}

// Drawn is the form in which a plate is drawn: its own, or the one that is proposed.
func (p *Plate) Drawn() Form {
	if p.Form != "" {
		return Form(p.Form)
	}
	m, err := Find(p.Of)
	if err != nil {
		return ""
	}
	return m.Forms(p.By != "", p.Subject.Kind)[0]
}

func (s *Subject) check(m *Matter) error {
	if !slices.Contains(Subjects(), s.Kind) {
		return fmt.Errorf("kind: %q is none: choose one of %s", s.Kind, strings.Join(Subjects(), ", "))
	}
	if !slices.Contains(m.Subjects, s.Kind) {
		return fmt.Errorf("kind: %s is not told of a %s: choose one of %s", m.Name, s.Kind,
			strings.Join(m.Subjects, ", "))
	}
	if err := text("name", s.Name, mostName); err != nil {
		return err
	}
	switch {
	case s.Kind == Fleet && s.Name != "":
		return fmt.Errorf("name: the fleet has none, so not %q", s.Name)
	case s.Name == "" && !slices.Contains([]string{Fleet, Host, Tenant}, s.Kind):
		return fmt.Errorf("name: which %s is it of?", s.Kind)
	}
	if s.Kind == Workload && strings.Trim(s.Name, "0123456789") != "" {
		return fmt.Errorf("name: %q is no workload's number: \"vinescale workloads\" tells them", s.Name)
	}
	return nil
}

func grouped(by string) string {
	if by == "" {
		return ""
	}
	return " by " + by
}

func orList(forms []Form) string {
	words := make([]string, len(forms))
	for i, f := range forms {
		words[i] = string(f)
	}
	return strings.Join(words, ", ")
}

func text(what, s string, most int) error {
	switch {
	case !utf8.ValidString(s) || strings.ContainsFunc(s, unicode.IsControl):
		return fmt.Errorf("%s: there is something in it that is no text", what)
	case utf8.RuneCountInString(s) > most:
		return fmt.Errorf("%s: it is longer than %d letters", what, most)
	}
	return nil
}

// mostNamed is how long the name of a folio may be, without the number that tells it from others of its title.
const mostNamed = 60

// NameOf makes the name by which a folio is addressed of its title: small letters and digits with dashes between.
func NameOf(title string) string {
	var b strings.Builder
	isGap := false
	for _, r := range strings.ToLower(title) {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			isGap = b.Len() > 0
		case b.Len() < mostNamed:
			if isGap {
				b.WriteByte('-')
			}
			isGap = false
			b.WriteRune(r)
		}
	}
	if b.Len() == 0 {
		return "folio"
	}
	return b.String()
}
