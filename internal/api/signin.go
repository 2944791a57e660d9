package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

type signInInput struct {
	Body struct {
		Token string `json:"token" maxLength:"200"`
	}
}

type signInOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      Identity
}

// Identity says who is signed in.
type Identity struct {
	Name string `json:"name"`
	Role string `json:"role" enum:"administrator,operator,reader,collector"`
}

type identityOutput struct{ Body Identity }

func cookie(value string, age int) http.Cookie {
	return http.Cookie{Name: cookieName, Value: value, Path: "/", MaxAge: age, HttpOnly: true,
		SameSite: http.SameSiteStrictMode}
}

func signInRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "sign-in", Method: http.MethodPost, Path: Prefix + "/sign-in",
		Summary: "Sign the console in by token", Security: []map[string][]string{},
	}, func(ctx context.Context, in *signInInput) (*signInOutput, error) {
		t, err := s.hub.SignIn(ctx, in.Body.Token)
		if err != nil {
			return nil, asProblem(err)
		}
		return &signInOutput{SetCookie: cookie(in.Body.Token, 30*24*3600), Body: Identity{t.Name, t.Role}}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "sign-out", Method: http.MethodPost, Path: Prefix + "/sign-out", Summary: "Sign the console out",
		Security: []map[string][]string{}, DefaultStatus: 204,
	}, func(context.Context, *struct{}) (*struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}, error) {
		return &struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
		}{cookie("", -1)}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "who-am-i", Method: http.MethodGet, Path: Prefix + "/me", Summary: "Who is signed in",
		Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*identityOutput, error) {
		t := tokenOf(ctx)
		return &identityOutput{Identity{t.Name, t.Role}}, nil
	})
}
