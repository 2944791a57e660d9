package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"vinescale/core/act"
	"vinescale/internal/hub"
	"vinescale/internal/sheet"
	"vinescale/internal/store"
)

// Intervention is an act, from the request to what came of it.
type Intervention struct {
	ID          string            `json:"id"`
	Host        string            `json:"host"`
	Verb        string            `json:"verb"`
	Target      act.Target        `json:"target"`
	Settings    map[string]string `json:"settings"`
	State       string            `json:"state" doc:"How far it has come, such as previewed, done or refused."`
	Detail      string            `json:"detail" doc:"Why it is in that state, in a sentence."`
	Who         string            `json:"who" doc:"Name of the token that asked for it."`
	Origin      string            `json:"origin" doc:"The address that it was asked from."`
	Reason      string            `json:"reason"`
	ConfirmedBy string            `json:"confirmed_by"`
	AskedAt     time.Time         `json:"asked_at"`
	ExpiresAt   time.Time         `json:"expires_at"`
	ConfirmedAt *time.Time        `json:"confirmed_at"`
	OverAt      *time.Time        `json:"over_at"`
	Preview     *act.Preview      `json:"preview" doc:"Null before its host showed one."`
	Outcome     *act.Outcome      `json:"outcome" doc:"Null before its host said what came of it."`
	Rule        string            `json:"rule" doc:"The standing rule that asked for it; empty for none."`
	Undoes      string            `json:"undoes" doc:"The act that this one undoes."`
	UndoneBy    string            `json:"undone_by" doc:"The act that undid this one."`
	CanUndo     bool              `json:"can_undo"`
}

func interventionOf(x *store.Intervention, undoneBy string) Intervention {
	i := Intervention{ID: x.ID, Host: x.Host, Verb: string(x.Verb), Target: x.Request.Target,
		Settings: x.Request.Settings, State: string(x.State), Detail: x.Detail, Who: x.Who, Origin: x.Origin,
		Reason: x.Reason, ConfirmedBy: x.ConfirmedBy, AskedAt: x.AskedAt.UTC(), ExpiresAt: x.ExpiresAt.UTC(),
		ConfirmedAt: inUTC(x.ConfirmedAt), OverAt: inUTC(x.OverAt), Preview: x.Preview, Outcome: x.Outcome,
		Undoes: x.Undoes, UndoneBy: undoneBy, Rule: x.Rule}
	if x.Outcome != nil {
		i.CanUndo = x.Outcome.CanUndo && undoneBy == ""
		if i.Detail == "" {
			i.Detail = x.Outcome.Detail
		}
	}
	return i
}

func inUTC(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	u := t.UTC()
	return &u
}

type interventionOutput struct{ Body Intervention }

type interventionsOutput struct{ Body []Intervention }

type interventionsInput struct {
	Host   string `query:"host"`
	State  string `query:"state" doc:"Such as done, refused or unknown."`
	Undoes string `query:"undoes" doc:"Those that undo this act."`
	First  int    `query:"first" default:"100" minimum:"1" maximum:"1000"`
}

type actInput struct {
	origin string
	Body   struct {
		Host     string            `json:"host,omitempty" doc:"Not needed for a workload by number, or to undo."`
		Verb     string            `json:"verb" doc:"One of the acts in the register."`
		Target   act.Target        `json:"target"`
		Workload int64             `json:"workload,omitempty" doc:"A workload by its number, in place of a target."`
		Settings map[string]string `json:"settings,omitempty"`
		Reason   string            `json:"reason,omitempty" maxLength:"1000"`
		Lives    string            `json:"lives,omitempty" doc:"For how long it may be done; 2m when left out."`
	}
}

// Resolve notes where the request comes from.
func (in *actInput) Resolve(ctx huma.Context) []error {
	r, _ := humachi.Unwrap(ctx)
	in.origin = r.RemoteAddr
	return nil
}

type confirmInput struct {
	ID   string `path:"id"`
	Body struct {
		Identity string `json:"identity" doc:"That of the preview: it names what is hit."`
		Reason   string `json:"reason,omitempty" maxLength:"1000" doc:"Where none was given before."`
	}
}

type oneActInput struct {
	ID string `path:"id"`
}

// ActEntry is what the register says of an act.
type ActEntry struct {
	Verb     string          `json:"verb"`
	Meaning  string          `json:"meaning"`
	Forms    []act.Form      `json:"forms" doc:"Of what it may be aimed at."`
	Settings []SettingOfActs `json:"settings"`
	Undo     string          `json:"undo" doc:"What undoes it; empty where nothing does."`
}

// SettingOfActs is one of the settings that an act takes.
type SettingOfActs struct {
	Name    string `json:"name"`
	Meaning string `json:"meaning"`
	Example string `json:"example"`
}

type actEntriesOutput struct{ Body []ActEntry }

func actRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-act-entries", Method: http.MethodGet, Path: Prefix + "/acts/register",
		Summary: "Which acts there are, and what they take", Metadata: readers(),
	}, func(context.Context, *struct{}) (*actEntriesOutput, error) {
		out := &actEntriesOutput{Body: []ActEntry{}}
		for _, e := range act.Entries() {
			x := ActEntry{Verb: string(e.Verb), Meaning: e.Meaning, Forms: e.Forms, Undo: e.Undo,
				Settings: []SettingOfActs{}}
			for _, name := range e.Settings {
				if setting, is := act.SettingOf(name); is {
					x.Settings = append(x.Settings, SettingOfActs{setting.Name, setting.Meaning, setting.Example})
				}
			}
			out.Body = append(out.Body, x)
		}
		return out, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "list-acts", Method: http.MethodGet, Path: Prefix + "/acts",
		Summary: "What was asked to be done on hosts, and what came of it, newest first", Metadata: readers(),
	}, func(ctx context.Context, in *interventionsInput) (*interventionsOutput, error) {
		list, undone, err := s.hub.Interventions(ctx, &store.InterventionsOf{Host: in.Host, State: in.State,
			Undoes: in.Undoes, First: in.First})
		out := &interventionsOutput{Body: []Intervention{}}
		for i := range list {
			out.Body = append(out.Body, interventionOf(&list[i], undone[list[i].ID]))
		}
		return out, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "get-act", Method: http.MethodGet, Path: Prefix + "/acts/{id}", Summary: "One act",
		Metadata: readers(),
	}, func(ctx context.Context, in *oneActInput) (*interventionOutput, error) {
		x, err := s.hub.Act(ctx, in.ID)
		if err != nil {
			return nil, asProblem(err)
		}
		return s.answer(ctx, &x)
	})
	huma.Register(api, huma.Operation{
		OperationID: "request-act", Method: http.MethodPost, Path: Prefix + "/acts",
		Summary: "Ask a host what an act would do",
		Description: "Nothing is done. The answer waits some seconds for the host's preview; one that is still asked " +
			"may be fetched again. What the preview shows is carried out once it is confirmed.",
		Metadata: operators(), DefaultStatus: http.StatusCreated,
	}, func(ctx context.Context, in *actInput) (*interventionOutput, error) {
		o := &hub.ActOrder{
			Host:     in.Body.Host,
			Workload: in.Body.Workload,
			Reason:   in.Body.Reason,
			Origin:   in.origin,
			Request:  act.Request{Verb: act.Verb(in.Body.Verb), Target: in.Body.Target, Settings: in.Body.Settings},
		}
		if in.Body.Lives != "" {
			lives, err := sheet.ParseSpan(in.Body.Lives)
			if err != nil {
				return nil, asProblem(&hub.Problem{Class: hub.Invalid, Detail: "lives: " + err.Error()})
			}
			o.Lives = lives
		}
		x, err := s.hub.RequestAct(ctx, o)
		if err != nil {
			return nil, asProblem(err)
		}
		return s.answer(ctx, &x)
	})
	huma.Register(api, huma.Operation{
		OperationID: "confirm-act", Method: http.MethodPost, Path: Prefix + "/acts/{id}/confirm",
		Summary: "Have an act carried out as its preview shows it", Metadata: operators(),
	}, func(ctx context.Context, in *confirmInput) (*interventionOutput, error) {
		x, err := s.hub.ConfirmAct(ctx, in.ID, in.Body.Identity, in.Body.Reason)
		if err != nil {
			return nil, asProblem(err)
		}
		return s.answer(ctx, &x)
	})
}

// answer tells of one act, with what undid it.
func (s *service) answer(ctx context.Context, x *store.Intervention) (*interventionOutput, error) {
	list, _, err := s.hub.Interventions(ctx, &store.InterventionsOf{First: 10, Undoes: x.ID})
	by := ""
	for i := range list {
		if list[i].State == act.Done || list[i].State == act.Partly {
			by = list[i].ID
		}
	}
	return &interventionOutput{interventionOf(x, by)}, asProblem(err)
}
