package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"vinescale/core/act"
	"vinescale/internal/api"
)

func newAct() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "act",
		Short: "Act on what runs on a host: shown before, confirmed, recorded, undone",
		Long: `Each act is previewed by its host first: what exactly it would touch, what changes
from what to what, who else would feel it, and what cannot be undone. It is
carried out once you confirm it, and only if the target is still the same. The
host's own policy file says what may be done there at all, and an operator acts
within a scope of tenants and pools. What was done is in "vinescale acts".`,
		Example: `  vinescale act pause label-printing --host press-1
  vinescale act cap frost-grid --cpu 4 --memory 8GiB --reason "until the harvest is in"
  vinescale act end --family 4711 --host terrace-2 --force
  vinescale act undo 3f7k2m9qxa`,
	}
	for _, e := range act.Entries() {
		cmd.AddCommand(newVerb(e))
	}
	cmd.AddCommand(newShowAct())
	return cmd
}

// actFlags are how an act is aimed and confirmed.
type actFlags struct {
	host, program, user, unit, job, gpu string
	process, family                     int32
	reason, lives                       string
	way                                 actWay
	settings                            map[string]*string
	as                                  *oneOf
}

// newVerb makes the command of one act, with the flags that the register says it takes.
func newVerb(e act.Entry) *cobra.Command {
	f := &actFlags{settings: map[string]*string{}}
	has := func(form act.Form) bool { return slices.Contains(e.Forms, form) }
	use, args := string(e.Verb), cobra.NoArgs
	switch {
	case has(act.OfAct):
		use, args = use+" ACT", cobra.ExactArgs(1)
	case has(act.OfWorkload):
		use, args = use+" [WORKLOAD]", cobra.ArbitraryArgs
	}
	cmd := &cobra.Command{Use: use, Short: strings.TrimSuffix(e.Meaning, "."), Args: args}
	clientFlags(cmd)
	flags := cmd.Flags()
	if !has(act.OfAct) {
		flags.StringVar(&f.host, "host", "", "on this host; needed unless a workload's name says it")
	}
	if has(act.OfProcess) {
		flags.Int32Var(&f.process, "process", 0, "one process, by its pid")
	}
	if has(act.OfFamily) {
		flags.Int32Var(&f.family, "family", 0, "a process and all its descendants, by its pid")
	}
	if has(act.OfProgram) {
		flags.StringVar(&f.program, "program", "", "all processes of a program that --user runs")
	}
	if has(act.OfUnit) {
		flags.StringVar(
			&f.unit,
			"unit",
			"",
			"a unit of the init system, with its suffix; of --user where it is a user's",
		)
	}
	if has(act.OfProgram) || has(act.OfUnit) {
		flags.StringVar(&f.user, "user", "", "the user of a program, or of a unit")
	}
	if has(act.OfGPU) {
		flags.StringVar(&f.gpu, "gpu", "", "a GPU, by its address on the bus, such as 0000:03:00.0")
	}
	if has(act.OfJob) {
		flags.StringVar(&f.job, "job", "", "a job of the batch scheduler, by its number")
	}
	for _, name := range e.Settings {
		s, _ := act.SettingOf(name) // the register's own
		value := flags.String(name, "", fmt.Sprintf("%s (such as %s)", s.Meaning, s.Example))
		if s.Example == "true" {
			flags.Lookup(name).NoOptDefVal = "true"
		}
		f.settings[name] = value
	}
	flags.StringVar(&f.reason, "reason", "", "why, for the record")
	flags.StringVar(&f.lives, "lives", "", "what is not done within this time is not done (default 2m)")
	flags.BoolVar(&f.way.isShown, "preview", false, "show what it would do, and do nothing")
	flags.BoolVar(&f.way.isConfirmed, "yes", false, "carry it out without asking")
	f.as = &oneOf{"table", []string{"table", "json", "jsonl"}}
	flags.Var(f.as, "as", "output form")
	if e.Undo != "" {
		cmd.Long = e.Meaning + " It can be undone: then " + e.Undo + "."
	} else {
		cmd.Long = e.Meaning
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error { return f.run(cmd, e.Verb, args) }
	return cmd
}

// request builds the call of the flags.
func (f *actFlags) request(cmd *cobra.Command, v act.Verb, args []string) (map[string]any, error) {
	settings := map[string]string{}
	for name, value := range f.settings {
		if cmd.Flags().Changed(name) {
			settings[name] = *value
		}
	}
	body := map[string]any{"verb": v, "settings": settings, "reason": f.reason, "lives": f.lives}
	target := act.Target{}
	var named []string
	aim := func(is bool, how string, t act.Target) {
		if is {
			named, target = append(named, how), t
		}
	}
	words := strings.Join(args, " ")
	aim(f.process != 0, "--process", act.Target{Form: act.OfProcess, PID: f.process})
	aim(f.family != 0, "--family", act.Target{Form: act.OfFamily, PID: f.family})
	aim(f.program != "", "--program", act.Target{Form: act.OfProgram, Program: f.program, User: f.user})
	aim(f.unit != "", "--unit", act.Target{Form: act.OfUnit, Unit: f.unit, User: f.user})
	aim(f.job != "", "--job", act.Target{Form: act.OfJob, Job: f.job})
	aim(f.gpu != "", "--gpu", act.Target{Form: act.OfGPU, GPU: strings.ToLower(f.gpu)})
	aim(words != "" && v == act.Undo, "an act", act.Target{Form: act.OfAct, Act: words})
	aim(words != "" && v != act.Undo, "a workload", act.Target{Form: act.OfWorkload})
	switch {
	case len(named) == 0:
		return nil, usagef("say what %s is aimed at: see %q", v, cmd.CommandPath()+" --help")
	case len(named) > 1:
		return nil, usagef("%s names more than one target: choose one", strings.Join(named, " and "))
	}
	if target.Form == act.OfWorkload {
		what, name, err := resolve(cmd, words, f.host)
		if err != nil {
			return nil, err
		}
		id, err := strconv.ParseInt(name, 10, 64)
		if what != "workload" || err != nil {
			return nil, usagef(
				"%s is a %s: an act is aimed at a workload, or at processes by --process, --family or "+
					"--program",
				visible(words),
				what,
			)
		}
		body["workload"] = id
	} else if f.host == "" && target.Form != act.OfAct {
		return nil, usagef("say on which host: --host NAME")
	}
	body["target"] = target
	if f.host != "" {
		body["host"] = f.host
	}
	return body, nil
}

func (f *actFlags) run(cmd *cobra.Command, v act.Verb, args []string) error {
	body, err := f.request(cmd, v, args)
	if err != nil {
		return err
	}
	// Whoever cannot be asked has to say beforehand that it is to be done.
	if !f.way.isShown && !f.way.isConfirmed && !canAsk(cmd) {
		return usagef("say --yes to carry it out, or --preview to see what it would do: nobody can be asked here")
	}
	_, err = f.way.carry(cmd, body, f.as.value)
	return err
}

// actWay is how an act is carried out: shown only, after being asked, or without.
type actWay struct{ isShown, isConfirmed bool }

// canAsk tells whether somebody can be asked to confirm.
func canAsk(cmd *cobra.Command) bool {
	input, isFile := cmd.InOrStdin().(*os.File)
	return isFile && term.IsTerminal(int(input.Fd()))
}

// carry asks for an act, shows its preview, has it confirmed and waits until it is over. The error says why it was not
// done.
func (a actWay) carry(cmd *cobra.Command, body map[string]any, as string) (x api.Intervention, err error) {
	if err := send(cmd, "POST", "/acts", body, &x); err != nil {
		return x, err
	}
	for end := time.Now().Add(2 * time.Minute); x.State == string(act.Asked) && time.Now().Before(end); {
		fmt.Fprintf(cmd.ErrOrStderr(), "%s has not answered yet ...\n", visible(x.Host))
		if err := pollAct(cmd, &x); err != nil {
			return x, err
		}
	}
	isTable := as == "table"
	if x.State != string(act.Previewed) {
		if !isTable {
			_ = writeOne(cmd.OutOrStdout(), as, x)
		}
		return x, fmt.Errorf("%s: %s", x.State, visible(x.Detail))
	}
	if isTable {
		writePreview(cmd.OutOrStdout(), &x)
	}
	if a.isShown {
		if !isTable {
			return x, writeOne(cmd.OutOrStdout(), as, x)
		}
		return x, nil
	}
	if !a.isConfirmed && !confirms(cmd, "Carry this out on "+visible(x.Host)+"?") {
		return x, errors.New("not confirmed; nothing was done")
	}
	confirmed := map[string]string{"identity": x.Preview.Identity}
	if err := send(cmd, "POST", "/acts/"+url.PathEscape(x.ID)+"/confirm", confirmed, &x); err != nil {
		return x, err
	}
	for end := time.Now().Add(5 * time.Minute); !act.State(x.State).IsOver() && time.Now().Before(end); {
		if err := pollAct(cmd, &x); err != nil {
			return x, err
		}
	}
	if !isTable {
		if err := writeOne(cmd.OutOrStdout(), as, x); err != nil {
			return x, err
		}
	} else {
		writeOutcome(cmd.OutOrStdout(), &x)
	}
	if x.State != string(act.Done) {
		return x, fmt.Errorf("act %s is %s: %s", x.ID, x.State, visible(x.Detail))
	}
	return x, nil
}

// confirms asks whoever is at the terminal; only yes is a yes.
func confirms(cmd *cobra.Command, question string) bool {
	fmt.Fprintf(cmd.ErrOrStderr(), "\n%s Type yes: ", question)
	line, _ := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
	return strings.TrimSpace(line) == "yes"
}

// pollAct fetches an act again after a moment.
func pollAct(cmd *cobra.Command, x *api.Intervention) error {
	select {
	case <-cmd.Context().Done():
		return cmd.Context().Err()
	case <-time.After(time.Second):
	}
	return get(cmd, "/acts/"+url.PathEscape(x.ID), nil, x)
}

// mostOfAct is how many processes and values a terminal shows of an act; the other forms have all.
const mostOfAct = 15

func writePreview(w io.Writer, x *api.Intervention) {
	p := x.Preview
	fmt.Fprintf(w, "%s %s on %s, through %s\n", x.Verb, visible(p.Target), visible(x.Host), visible(p.Through))
	writeChanges(w, p.Changes)
	if len(p.Processes) > 0 {
		fmt.Fprintf(w, "\nTouches %s\n", processes(p.Total))
		t := newTable(w)
		t.row(
			cell{"  pid", true},
			cell{"user", false},
			cell{"program", false},
			cell{"began", false},
			cell{"workload", false},
		)
		for i := range p.Processes[:min(len(p.Processes), mostOfAct)] {
			x := &p.Processes[i]
			t.row(cell{"  " + strconv.Itoa(int(x.PID)), true}, cell{x.User, false}, cell{x.Program, false},
				cell{shownAt(x.Began, time.DateTime), false}, cell{x.Workload, false})
		}
		_ = t.flush() // the writer's error comes again with the next line
		if n := p.Total - mostOfAct; n > 0 {
			fmt.Fprintf(w, "  and %d more\n", n)
		}
	}
	writeLeft(w, "Not touched", p.Left)
	if len(p.Shared) > 0 {
		fmt.Fprintf(w, "\nWould feel it too: %s\n", visible(strings.Join(p.Shared, ", ")))
	}
	if len(p.Warnings) > 0 {
		fmt.Fprintln(w)
	}
	for _, text := range p.Warnings {
		fmt.Fprintf(w, "Mind: %s.\n", strings.ReplaceAll(folded(text), "\n", "\n      "))
	}
	if p.Undo != "" {
		fmt.Fprintf(w, "Can be undone: %s.\n", p.Undo)
	}
}

func processes(n int) string {
	if n == 1 {
		return "1 process"
	}
	return fmt.Sprint(n, " processes")
}

func writeChanges(w io.Writer, changes []act.Change) {
	if len(changes) == 0 {
		return
	}
	fmt.Fprintln(w)
	t := newTable(w)
	t.row(cell{"  value", false}, cell{"before", true}, cell{"after", true}, cell{"where", false})
	for i := range changes[:min(len(changes), mostOfAct)] {
		c := &changes[i]
		t.row(cell{"  " + c.What, false}, cell{c.Before, true}, cell{c.After, true}, cell{c.Where, false})
	}
	_ = t.flush() // as above
	if n := len(changes) - mostOfAct; n > 0 {
		fmt.Fprintf(w, "  and %d more\n", n)
	}
}

func writeLeft(w io.Writer, head string, left []act.Refusal) {
	if len(left) == 0 {
		return
	}
	fmt.Fprintf(w, "\n%s\n", head)
	for i := range left[:min(len(left), mostOfAct)] {
		fmt.Fprintf(w, "  %s: %s\n", visible(left[i].What), visible(left[i].Why))
	}
	if n := len(left) - mostOfAct; n > 0 {
		fmt.Fprintf(w, "  and %d more\n", n)
	}
}

func writeOutcome(w io.Writer, x *api.Intervention) {
	fmt.Fprintf(w, "\n%s: %s\n", x.State, visible(x.Detail))
	if x.Outcome == nil {
		return
	}
	writeChanges(w, x.Outcome.Changes)
	writeLeft(w, "Not done", x.Outcome.Left)
	if len(x.Outcome.Found) > 0 {
		fmt.Fprintln(w)
		t := newTable(w)
		for _, f := range x.Outcome.Found {
			t.row(cell{f.Of, false}, cell{f.What, false}, cell{f.Text, false})
		}
		_ = t.flush() // as above
	}
	if x.CanUndo {
		fmt.Fprintf(w, "\nTo take it back: vinescale act undo %s\n", x.ID)
	}
}

func newShowAct() *cobra.Command {
	cmd := &cobra.Command{Use: "show ACT", Short: "All that is on record of one act", Args: cobra.ExactArgs(1)}
	clientFlags(cmd)
	as := &oneOf{"table", []string{"table", "json", "jsonl"}}
	cmd.Flags().Var(as, "as", "output form")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		var x api.Intervention
		if err := get(cmd, "/acts/"+url.PathEscape(args[0]), nil, &x); err != nil {
			return err
		}
		w := cmd.OutOrStdout()
		if as.value != "table" {
			return writeOne(w, as.value, x)
		}
		rows := [][2]string{{"act", x.ID}, {"asked by", x.Who + " from " + x.Origin}, {"reason", x.Reason},
			{"asked at", at(&x.AskedAt)}, {"confirmed at", at(x.ConfirmedAt)}, {"confirmed by", x.ConfirmedBy},
			{"over at", at(x.OverAt)}, {"undoes", x.Undoes}, {"undone by", x.UndoneBy}}
		if err := pairs(w, rows); err != nil {
			return err
		}
		fmt.Fprintln(w)
		if x.Preview != nil {
			writePreview(w, &x)
		} else {
			fmt.Fprintf(w, "%s %s on %s\n", x.Verb, visible(x.Target.String()), visible(x.Host))
		}
		writeOutcome(w, &x)
		return nil
	}
	return cmd
}

func newActs() *cobra.Command {
	var host, state string
	cmd := &cobra.Command{
		Use: "acts", Short: "What was asked to be done on hosts, by whom, and what came of it", Args: cobra.NoArgs,
		Example: `  vinescale acts
  vinescale acts --state unknown
  vinescale acts --host press-1 --as csv`,
	}
	clientFlags(cmd)
	cmd.Flags().StringVar(&host, "host", "", "on this host only")
	cmd.Flags().StringVar(&state, "state", "", "only in this state, such as done, partly, refused or unknown")
	as := listFlags(cmd, 50)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		q := url.Values{"first": {"1000"}}
		for name, value := range map[string]string{"host": host, "state": state} {
			if value != "" {
				q.Set(name, value)
			}
		}
		var acts []api.Intervention
		if err := get(cmd, "/acts", q, &acts); err != nil {
			return err
		}
		return list(cmd, as, []column[api.Intervention]{
			{
				name:  "asked_at",
				head:  "when",
				value: func(x api.Intervention) any { return x.AskedAt.Format(time.RFC3339) },
				text:  func(x api.Intervention) string { return shownAt(x.AskedAt, time.DateTime) },
			},
			{name: "id", head: "act", value: func(x api.Intervention) any { return x.ID }},
			{name: "who", head: "who", value: func(x api.Intervention) any { return x.Who }},
			{name: "verb", head: "did", value: func(x api.Intervention) any { return x.Verb }},
			{name: "target", head: "to", value: func(x api.Intervention) any { return targetWords(&x) }},
			{name: "host", head: "on", value: func(x api.Intervention) any { return x.Host }},
			{name: "state", head: "state", value: func(x api.Intervention) any { return x.State },
				text: func(x api.Intervention) string {
					if x.UndoneBy != "" {
						return x.State + ", undone"
					}
					return x.State
				}},
			{name: "detail", head: "what came of it", value: func(x api.Intervention) any { return x.Detail }},
			{name: "reason", head: "why", value: func(x api.Intervention) any { return x.Reason }, extra: true},
			{
				name:  "undone_by",
				head:  "undone by",
				value: func(x api.Intervention) any { return x.UndoneBy },
				extra: true,
			},
			{name: "origin", head: "from", value: func(x api.Intervention) any { return x.Origin }, extra: true},
		}, acts)
	}
	return cmd
}

func targetWords(x *api.Intervention) string {
	if x.Preview != nil {
		return x.Preview.Target
	}
	return x.Target.String()
}
