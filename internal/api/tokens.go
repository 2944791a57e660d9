package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/act"
)

// Token is a token as the API tells it: never the token itself.
type Token struct {
	Name      string    `json:"name"`
	Role      string    `json:"role" enum:"administrator,operator,reader,collector"`
	Scope     act.Scope `json:"scope" doc:"In which an operator may act; a list that is empty stands for all."`
	CreatedAt time.Time `json:"created_at"`
}

type tokensOutput struct{ Body []Token }

type addTokenInput struct {
	Body struct {
		Name  string     `json:"name" maxLength:"255"`
		Role  string     `json:"role" enum:"administrator,operator,reader" doc:"An operator acts within a scope."`
		Scope *act.Scope `json:"scope,omitempty" doc:"Of an operator: tenants, pools, or both."`
	}
}

// NewToken is a new token, shown once.
type NewToken struct {
	Name  string `json:"name"`
	Token string `json:"token"`
}

type newTokenOutput struct{ Body NewToken }

func tokenRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-tokens", Method: http.MethodGet, Path: Prefix + "/tokens",
		Summary: "All tokens, by name and role", Metadata: administrators(),
	}, func(ctx context.Context, _ *struct{}) (*tokensOutput, error) {
		tokens, err := s.hub.Tokens(ctx)
		out := &tokensOutput{Body: []Token{}}
		for _, t := range tokens {
			if t.Scope.Tenants == nil {
				t.Scope.Tenants = []string{}
			}
			if t.Scope.Pools == nil {
				t.Scope.Pools = []string{}
			}
			out.Body = append(out.Body, Token{t.Name, t.Role, t.Scope, t.CreatedAt.UTC()})
		}
		return out, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "add-token", Method: http.MethodPost, Path: Prefix + "/tokens",
		Summary:  "Make a token for a person or a program",
		Metadata: administrators(), DefaultStatus: 201,
	}, func(ctx context.Context, in *addTokenInput) (*newTokenOutput, error) {
		var scope act.Scope
		if in.Body.Scope != nil {
			scope = *in.Body.Scope
		}
		token, err := s.hub.AddToken(ctx, in.Body.Name, in.Body.Role, scope)
		return &newTokenOutput{NewToken{in.Body.Name, token}}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "remove-token", Method: http.MethodDelete, Path: Prefix + "/tokens/{name}",
		Summary: "Make a token void", Metadata: administrators(),
	}, func(ctx context.Context, in *namedInput) (*struct{}, error) {
		return nil, asProblem(s.hub.RemoveToken(ctx, in.Name))
	})
}
