package act

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Target is what an act is aimed at. Which fields it has follows from its form.
type Target struct {
	Form    Form   `json:"form" enum:"process,family,program,workload,unit,job,gpu,act"`
	PID     int32  `json:"pid,omitempty" doc:"Of a process, or of the first of a family."`
	Start   int64  `json:"start_ticks,omitempty" doc:"When it began, in clock ticks since boot; 0 where not said."`
	User    string `json:"user,omitempty" doc:"Of a program: who runs it. Of a unit: whose; empty for the host's."`
	Program string `json:"program,omitempty"`
	Key     string `json:"key,omitempty" doc:"Of a workload: its key on its host."`
	Unit    string `json:"unit,omitempty" doc:"With its suffix."`
	Job     string `json:"job,omitempty" doc:"Its number at the scheduler."`
	GPU     string `json:"gpu,omitempty" doc:"Its address on the PCI bus, such as 0000:03:00.0."`
	Act     string `json:"act,omitempty" doc:"The number of an act."`
}

// Request is an act as it was asked for.
type Request struct {
	Verb     Verb              `json:"verb"`
	Target   Target            `json:"target"`
	Settings map[string]string `json:"settings"`
}

// Check returns the request with its settings as they are carried out. The error says what is wrong with it, and what
// to do.
func (r *Request) Check() (Request, error) {
	e, err := r.Verb.check()
	if err != nil {
		return *r, err
	}
	if !slices.Contains(e.Forms, r.Target.Form) {
		var forms []string
		for _, f := range e.Forms {
			forms = append(forms, string(f))
		}
		return *r, fmt.Errorf(
			"%s is not for a %s: aim it at a %s",
			r.Verb,
			r.Target.Form,
			strings.Join(forms, ", "),
		)
	}
	if err := r.Target.check(); err != nil {
		return *r, err
	}
	clean := *r
	clean.Settings, err = e.checkSettings(r.Settings)
	return clean, err
}

func (t *Target) check() error {
	need := func(is bool, what string) error {
		if is {
			return nil
		}
		return fmt.Errorf("a %s is named by %s", t.Form, what)
	}
	switch t.Form {
	case OfProcess, OfFamily:
		return need(t.PID > 0, "its pid")
	case OfProgram:
		return need(t.Program != "" && t.User != "", "program and user")
	case OfWorkload:
		return need(t.Key != "", "its key on its host")
	case OfUnit:
		return need(strings.Contains(t.Unit, ".") && !strings.ContainsAny(t.Unit, "/ \n"),
			"its name with its suffix, such as press.service")
	case OfJob:
		return need(t.Job != "" && strings.Trim(t.Job, "0123456789_") == "", "its number")
	case OfGPU:
		return need(len(t.GPU) == len("0000:03:00.0"), "its address on the bus, such as 0000:03:00.0")
	case OfAct:
		return need(t.Act != "", "its number")
	}
	return errors.New("it is not said what the act is aimed at")
}

// String is a target in words.
func (t *Target) String() string {
	switch t.Form {
	case OfProcess:
		return fmt.Sprint("process ", t.PID)
	case OfFamily:
		return fmt.Sprint("process ", t.PID, " and its descendants")
	case OfProgram:
		return fmt.Sprintf("all %s of %s", t.Program, t.User)
	case OfWorkload:
		return t.Key
	case OfUnit:
		if t.User != "" {
			return t.Unit + " of " + t.User
		}
		return t.Unit
	case OfJob:
		return "job " + t.Job
	case OfGPU:
		return "GPU " + t.GPU
	}
	return "act " + t.Act
}
