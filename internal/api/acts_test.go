package api_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestActs_EachRoleMayDoItsOwnAndNothingElse is every role by every route about acts.
func TestActs_EachRoleMayDoItsOwnAndNothingElse(t *testing.T) {
	s := newService(t)
	made := func(path, body, field string) string {
		r, err := http.NewRequest("POST", s.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer secret")
		r.Header.Set("Content-Type", "application/json")
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		var out map[string]any
		require.NoError(t, json.NewDecoder(answer.Body).Decode(&out))
		text, _ := out[field].(string)
		require.NotEmpty(t, text, "%v", out)
		return text
	}
	credential := made("/api/v1/hosts", `{"name":"press-1"}`, "credential")
	made("/api/v1/tenants", `{"name":"Frost Watch"}`, "name")
	tokens := map[string]string{"administrator": "secret", "collector": credential,
		"reader": made("/api/v1/tokens", `{"name":"r","role":"reader"}`, "token"),
		"operator": made(
			"/api/v1/tokens",
			`{"name":"o","role":"operator","scope":{"tenants":["Frost Watch"],"pools":[]}}`,
			"token",
		),
		"nobody": "vs_unknown"}
	const denied, unknown = http.StatusForbidden, http.StatusNotFound
	for _, x := range []struct {
		method, path, body string
		want               map[string]int
	}{
		{"GET", "/api/v1/acts", "", map[string]int{"administrator": 200, "operator": 200, "reader": 200,
			"collector": denied}},
		{"GET", "/api/v1/acts/register", "", map[string]int{"administrator": 200, "operator": 200, "reader": 200,
			"collector": denied}},
		{"GET", "/api/v1/acts/none", "", map[string]int{"administrator": unknown, "operator": unknown,
			"reader": unknown, "collector": denied}},
		{"POST", "/api/v1/acts", `{"host":"no-host","verb":"pause","target":{"form":"process","pid":7}}`,
			map[string]int{"administrator": unknown, "operator": unknown, "reader": denied, "collector": denied}},
		{"POST", "/api/v1/acts/none/confirm", `{"identity":"x"}`, map[string]int{"administrator": unknown,
			"operator": unknown, "reader": denied, "collector": denied}},
		{"GET", "/api/v1/orders?wait=0&nonce=0123456789abcdef", "", map[string]int{"administrator": denied,
			"operator": denied, "reader": denied, "collector": 200}},
		{"POST", "/api/v1/orders/none", `{"refusal":"no"}`, map[string]int{"administrator": denied, "operator": denied,
			"reader": denied, "collector": unknown}},
		{"POST", "/api/v1/tenants", `{"name":"Frost Watch"}`, map[string]int{"administrator": http.StatusConflict,
			"operator": denied, "reader": denied, "collector": denied}},
		{"GET", "/api/v1/hosts", "", map[string]int{"administrator": 200, "operator": 200, "reader": 200,
			"collector": denied}},
		{"POST", "/api/v1/tokens", `{"name":"x","role":"administrator"}`, map[string]int{"operator": denied,
			"reader": denied, "collector": denied}},
		{"POST", "/api/v1/tokens", `{"name":"x","role":"operator"}`, map[string]int{"administrator": 422}},
	} {
		for role, token := range tokens {
			want, is := x.want[role]
			if role == "nobody" {
				want, is = http.StatusUnauthorized, true
			}
			if !is {
				continue
			}
			s.token = token
			status, detail := s.ask(x.method, x.path, x.body)
			assert.Equal(t, want, status, "%s %s by %s: %s", x.method, x.path, role, detail)
		}
	}
}
