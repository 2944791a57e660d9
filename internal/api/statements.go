package api

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/shopspring/decimal"

	"vinescale/core/statement"
	"vinescale/internal/hub"
)

// TariffInForce is the tariff that new statements are made by, and how it came about.
type TariffInForce struct {
	statement.Tariff
	Version int64      `json:"version" doc:"0 where none was ever set."`
	Reason  string     `json:"reason"`
	MadeBy  string     `json:"made_by"`
	MadeAt  *time.Time `json:"made_at"`
}

// TariffToSet is a tariff that is to be put in force.
type TariffToSet struct {
	statement.Tariff
	Reason string `json:"reason,omitempty" doc:"Why, for those who read the history."`
}

// TariffSet is what came of it.
type TariffSet struct {
	IsChanged bool `json:"changed" doc:"False where it says what was in force."`
}

// StatementGrown is a statement with what grew since the window before.
type StatementGrown struct {
	statement.Statement
	Growth []statement.Growth `json:"growth" doc:"Against the closed statement of the window before."`
}

// CorrectionToMake is a correction of a closed statement.
type CorrectionToMake struct {
	Corrects int64  `json:"corrects" doc:"The number of the statement."`
	Resource string `json:"resource"`
	Quantity string `json:"quantity,omitempty" doc:"A decimal number in the unit of prices; below zero takes off."`
	Cost     string `json:"cost,omitempty" doc:"A decimal number; when left out, the price of then gives it."`
	Reason   string `json:"reason"`
}

// StatementsVerified tells how many closed statements are as they were closed.
type StatementsVerified struct {
	Statements int `json:"statements"`
}

// WindowParam chooses a window.
type WindowParam struct {
	Window string `query:"window" doc:"this (when left out), last, a month such as 2026-10, or a day in it."`
}

type accountOutput struct{ Body statement.Account }

type statementsInput struct {
	Tenant string `query:"tenant" doc:"One tenant, or shared, or unassigned; all when left out."`
}

type statementsOutput struct{ Body []statement.Statement }

type statementInput struct {
	Number int64 `path:"number"`
}

type statementOutput struct{ Body StatementGrown }

type draftInput struct {
	Tenant string `path:"tenant"`
	WindowParam
}

type focusInput struct {
	WindowParam
	Provider string `query:"provider" doc:"Who runs the hosts." default:"this site"`
}

type focusOutput struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

type closeInput struct {
	Body struct {
		Window string `json:"window" doc:"last, a month such as 2026-10, or a day that is in it."`
	}
}

type tariffOutput struct{ Body TariffInForce }

type setTariffInput struct{ Body TariffToSet }

type setTariffOutput struct{ Body TariffSet }

type correctInput struct{ Body CorrectionToMake }

type correctionOutput struct{ Body statement.Correction }

type correctionsOutput struct{ Body []statement.Correction }

type removeCorrectionInput struct {
	ID int64 `path:"id"`
}

type verifiedOutput struct{ Body StatementsVerified }

func statementRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "get-account", Method: http.MethodGet, Path: Prefix + "/statements/account",
		Summary: "All statements of a window: as they were closed, or a draft of what would be closed now",
		Description: "The lines add up to the ledger of the window, to the last unit: a draft has the proof. What " +
			"has changed of windows before, and was not stated, is a line of its own.", Metadata: readers(),
	}, func(ctx context.Context, in *WindowParam) (*accountOutput, error) {
		a, err := s.hub.Account(ctx, in.Window)
		if err != nil {
			return nil, asProblem(err)
		}
		return &accountOutput{*a}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "list-statements", Method: http.MethodGet, Path: Prefix + "/statements",
		Summary: "Closed statements without their lines, the newest first", Metadata: readers(),
	}, func(ctx context.Context, in *statementsInput) (*statementsOutput, error) {
		list, err := s.hub.Statements(ctx, in.Tenant)
		return &statementsOutput{list}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "get-statement", Method: http.MethodGet, Path: Prefix + "/statements/{number}",
		Summary: "A closed statement, with what grew since the window before", Metadata: readers(),
	}, func(ctx context.Context, in *statementInput) (*statementOutput, error) {
		x, growth, err := s.hub.Statement(ctx, in.Number)
		if err != nil {
			return nil, asProblem(err)
		}
		return &statementOutput{StatementGrown{*x, growth}}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "get-statement-of", Method: http.MethodGet, Path: Prefix + "/statements/of/{tenant}",
		Summary:  "A tenant's statement of a window, closed or a draft, with what grew since the window before",
		Metadata: readers(),
	}, func(ctx context.Context, in *draftInput) (*statementOutput, error) {
		x, growth, err := s.hub.StatementOf(ctx, in.Tenant, in.Window)
		if err != nil {
			return nil, asProblem(err)
		}
		return &statementOutput{StatementGrown{*x, growth}}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "get-focus", Method: http.MethodGet, Path: Prefix + "/statements/focus",
		Summary: "All statements of a window as CSV, in the columns of the open FinOps cost and usage specification " +
			"(FOCUS " + statement.FocusVersion + ")", Metadata: readers(),
		Responses: map[string]*huma.Response{"200": {Description: "CSV, with a line of heads",
			Content: map[string]*huma.MediaType{"text/csv": {Schema: &huma.Schema{Type: huma.TypeString}}}}},
	}, func(ctx context.Context, in *focusInput) (*focusOutput, error) {
		a, err := s.hub.Account(ctx, in.Window)
		if err != nil {
			return nil, asProblem(err)
		}
		body, err := focusCSV(a, in.Provider)
		if err != nil {
			return nil, asProblem(&hub.Problem{Class: hub.Conflict, Detail: err.Error()})
		}
		return &focusOutput{"text/csv; charset=utf-8", body}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "close-window", Method: http.MethodPost, Path: Prefix + "/statements/close",
		Summary:     "Close a window: its statements are numbered and sealed, and never change again",
		Description: "Windows are closed in order, once they are over.", Metadata: administrators(),
	}, func(ctx context.Context, in *closeInput) (*accountOutput, error) {
		a, err := s.hub.CloseWindow(ctx, in.Body.Window)
		if err != nil {
			return nil, asProblem(err)
		}
		return &accountOutput{*a}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "verify-statements", Method: http.MethodGet, Path: Prefix + "/statements/verify",
		Summary: "Whether every closed statement is as it was closed", Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*verifiedOutput, error) {
		n, err := s.hub.VerifyStatements(ctx)
		return &verifiedOutput{StatementsVerified{n}}, asProblem(err)
	})
	tariffRoutes(api, s)
	correctionRoutes(api, s)
}

// focusCSV writes all statements of an account in the columns of FOCUS.
func focusCSV(a *statement.Account, provider string) ([]byte, error) {
	rows, err := a.Focus(provider)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = csv.NewWriter(&b).WriteAll(rows)
	return b.Bytes(), err
}

func tariffRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "get-tariff", Method: http.MethodGet, Path: Prefix + "/tariff",
		Summary: "For which windows statements are made, and what things cost", Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*tariffOutput, error) {
		t, err := s.hub.Tariff(ctx)
		return &tariffOutput{TariffInForce{t.Tariff, t.Version, t.Reason, t.MadeBy, t.MadeAt}}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "set-tariff", Method: http.MethodPut, Path: Prefix + "/tariff",
		Summary: "Set the tariff of windows that are not closed", Metadata: administrators(),
	}, func(ctx context.Context, in *setTariffInput) (*setTariffOutput, error) {
		isChanged, err := s.hub.SetTariff(ctx, &in.Body.Tariff, in.Body.Reason)
		return &setTariffOutput{TariffSet{isChanged}}, asProblem(err)
	})
}

func correctionRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-corrections", Method: http.MethodGet, Path: Prefix + "/corrections",
		Summary: "Corrections of closed statements, with the statement that each is a line of", Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*correctionsOutput, error) {
		list, err := s.hub.Corrections(ctx)
		return &correctionsOutput{list}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "correct-statement", Method: http.MethodPost, Path: Prefix + "/corrections",
		Summary: "Correct a closed statement by a line of the next one", Metadata: administrators(),
	}, func(ctx context.Context, in *correctInput) (*correctionOutput, error) {
		c := statement.Correction{Corrects: in.Body.Corrects, Resource: in.Body.Resource, Reason: in.Body.Reason}
		var err error
		if c.Quantity, c.Cost, err = decimals(in.Body.Quantity, in.Body.Cost); err != nil {
			return nil, asProblem(&hub.Problem{Class: hub.Invalid, Detail: err.Error()})
		}
		made, err := s.hub.Correct(ctx, &c)
		return &correctionOutput{made}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "remove-correction", Method: http.MethodDelete, Path: Prefix + "/corrections/{id}",
		Summary: "Take back a correction that is no line of a statement yet", Metadata: administrators(),
	}, func(ctx context.Context, in *removeCorrectionInput) (*struct{}, error) {
		return nil, asProblem(s.hub.RemoveCorrection(ctx, in.ID))
	})
}

// decimals reads a quantity and a cost; what was left out is 0, and no cost.
func decimals(quantity, cost string) (n decimal.Decimal, c *decimal.Decimal, err error) {
	read := func(text string) (decimal.Decimal, error) {
		d, err := decimal.NewFromString(text)
		if err != nil || len(text) > 40 {
			return d, fmt.Errorf("%q is no decimal number: write such as -12.5", text)
		}
		return d, nil
	}
	if quantity != "" {
		if n, err = read(quantity); err != nil {
			return n, nil, err
		}
	}
	if cost == "" {
		return n, nil, nil
	}
	d, err := read(cost)
	return n, &d, err
}
