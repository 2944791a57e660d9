package explain

import (
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/core/tenancy"
)

// AllowanceStand is how a tenant stands in the window of an allowance.
type AllowanceStand struct {
	Tenant   string     `json:"tenant"`
	Parts    []string   `json:"parts,omitempty" doc:"Tenants that are parts of it, and are counted in it."`
	Resource string     `json:"resource"`
	Unit     string     `json:"unit" doc:"core_hours, gpu_hours, byte_hours, bytes or kwh."`
	Scope    string     `json:"scope_kind" enum:"fleet,pool,host"`
	On       string     `json:"scope" doc:"The pool or host; empty for the fleet."`
	Window   string     `json:"window" doc:"day, week, month, or such as 14 days from 2026-09-01."`
	Zone     string     `json:"zone" doc:"The time zone whose midnights bound it."`
	From     time.Time  `json:"from" doc:"Begin of the window."`
	To       time.Time  `json:"to" doc:"Its end."`
	At       time.Time  `json:"at" doc:"Until when spending is told."`
	Amount   *float64   `json:"amount" doc:"Null where only a soft mark is set."`
	Soft     *float64   `json:"soft"`
	Spent    *float64   `json:"spent"`
	Left     *float64   `json:"left" doc:"Below zero where more was spent."`
	Burn     *float64   `json:"burn_per_day" doc:"Mean of the known days of the last week."`
	Expected *float64   `json:"expected" doc:"At the window's end; null where no whole day is known yet."`
	Low      *float64   `json:"expected_low"`
	High     *float64   `json:"expected_high"`
	RunsOut  *time.Time `json:"runs_out" doc:"When it is spent, as expected; null where it lasts."`
	Early    *time.Time `json:"runs_out_early" doc:"At the highest pace."`
	Late     *time.Time `json:"runs_out_late" doc:"At the lowest pace."`
	Days     int        `json:"days_known" doc:"Whole days that the forecast goes by."`
	State    string     `json:"state" enum:"fine,watched,running_out,exhausted,unknown"`
	Missing  int        `json:"missing" doc:"Workloads without a figure: what was spent lacks theirs."`
	Method   string     `json:"method" doc:"How the forecast is made."`
	Reason   string     `json:"reason,omitempty" doc:"Why figures are null."`
}

// The states of an allowance.
const (
	AllowanceFine       = "fine"
	AllowanceWatched    = "watched"     // the soft mark is passed
	AllowanceRunningOut = "running_out" // expected to be spent before the window ends
	AllowanceExhausted  = "exhausted"
	AllowanceUnknown    = "unknown"
)

// Allowance is an allowance of a tenant, with all of its parts, in the window that a moment is in.
type Allowance struct {
	Tenant   string
	Name     string // of a resource
	Scope    tenancy.Scope
	Window   tenancy.Window
	Limit    tenancy.Limit
	From, To time.Time
}

// StandOfAllowance says how an allowance stands at a moment: by what was spent in its window until then, where anything
// was recorded of it, and by what was spent on the whole days before.
func StandOfAllowance(
	a *Allowance,
	at time.Time,
	spent *question.Sum,
	isRecorded bool,
	days []tenancy.Day,
) *AllowanceStand {
	r, err := amount.ParseResource(a.Name)
	if err != nil {
		return nil
	}
	s := &AllowanceStand{
		Tenant:   a.Tenant,
		Resource: a.Name,
		Unit:     r.Entry().Unit.Spent,
		Scope:    string(a.Scope.Kind),
		On:       a.Scope.Name,
		Window:   a.Window.String(),
		Zone:     a.Limit.Zone,
		From:     a.From,
		To:       a.To,
		At:       at,
		Amount:   a.Limit.Ceiling,
		Soft:     a.Limit.Soft,
		State:    AllowanceUnknown,
		Missing:  spent.Missing,
		Method:   tenancy.ForecastMethod,
	}
	switch {
	case !isRecorded:
		s.Reason = NothingRecorded
		return s
	case !spent.Known():
		s.Reason = Reason(r, spent)
		return s
	}
	sum := r.Spent(spent.Units)
	s.Spent, s.State = &sum, AllowanceFine
	limit := a.Limit.Soft
	if a.Limit.Ceiling != nil {
		limit = a.Limit.Ceiling
		left := *a.Limit.Ceiling - sum
		s.Left = &left
	}
	in := make([]tenancy.Day, len(days))
	for i, d := range days {
		in[i] = tenancy.Day{From: d.From, Spent: r.Spent(d.Spent), IsKnown: d.IsKnown}
	}
	s.Burn = burn(in, at)
	spending := tenancy.Spending{From: a.From, To: a.To, At: at, Spent: sum, Amount: *limit, Days: in}
	if f, ok := spending.Forecast(); ok {
		s.Expected, s.Low, s.High, s.Days = &f.Expected, &f.Low, &f.High, f.DaysKnown
		s.RunsOut, s.Early, s.Late = f.RunsOut, f.RunsOutEarly, f.RunsOutLate
	} else {
		s.Reason = "no whole day is known yet that a forecast could go by"
	}
	switch {
	case s.Left != nil && *s.Left < 0:
		s.State = AllowanceExhausted
	case s.Amount != nil && s.RunsOut != nil:
		s.State = AllowanceRunningOut
	case s.Soft != nil && sum > *s.Soft:
		s.State = AllowanceWatched
	}
	return s
}

// burn is what was spent a day in the last week, in the mean of its known days.
func burn(days []tenancy.Day, at time.Time) *float64 {
	sum, n := 0.0, 0
	for _, d := range days {
		if d.IsKnown && !d.From.Before(at.AddDate(0, 0, -8)) && !d.From.Add(24*time.Hour).After(at) {
			sum += d.Spent
			n++
		}
	}
	if n == 0 {
		return nil
	}
	mean := sum / float64(n)
	return &mean
}
