package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// described is as much of the description of the interface as says where a list stands.
type described struct {
	Ref        string `json:"$ref"`
	Type       any
	Items      *described
	Properties map[string]*described
}

// nulls lists where an answer has null in place of a list, by what the description says of it.
func nulls(schemas map[string]*described, is *described, v any, at string) (found []string) {
	if is == nil {
		return nil
	}
	if name, ok := strings.CutPrefix(is.Ref, "#/components/schemas/"); ok {
		is = schemas[name]
	}
	if is.Type == "array" && v == nil {
		return []string{at}
	}
	switch v := v.(type) {
	case []any:
		for i, x := range v {
			found = append(found, nulls(schemas, is.Items, x, fmt.Sprintf("%s[%d]", at, i))...)
		}
	case map[string]any:
		for name, x := range v {
			found = append(found, nulls(schemas, is.Properties[name], x, at+"."+name)...)
		}
	}
	return found
}

// TestAPI_ListsAreNeverNull asks every question that needs no body, of a span with figures and of one without, and
// holds the answers to what the description says of their lists.
func TestAPI_ListsAreNeverNull(t *testing.T) {
	status, _, raw := call(t, http.MethodGet, demo.address+"/api/v1/openapi.json", demo.token, "", nil)
	require.Equal(t, 200, status)
	var api struct {
		Components struct{ Schemas map[string]*described }
		Paths      map[string]struct {
			Get *struct {
				Responses map[string]struct {
					Content map[string]struct{ Schema *described }
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal(raw, &api))
	asked := 0
	for path, of := range api.Paths {
		if of.Get == nil || of.Get.Responses["200"].Content["application/json"].Schema == nil {
			continue
		}
		const host = "press-1" // to which nothing happened: its lists are empty oftener than others
		at := strings.NewReplacer("{what}/{name}", "host/"+host, "folios/{name}", "folios/fleet", "{name}", host,
			"{host}", host, "{id}", "1").Replace(path)
		if strings.Contains(at, "{") {
			continue
		}
		for _, span := range []string{"span=1h", "from=2026-01-01T00:00:00Z&to=2026-01-01T01:00:00Z"} {
			for _, more := range []string{"", "&host=" + host} {
				status, _, raw := call(t, http.MethodGet, demo.address+at+"?by=tenant&words=cellar&"+span+more,
					demo.token, "", nil)
				if status != 200 { // it asks for something else
					continue
				}
				var v any
				require.NoError(t, json.Unmarshal(raw, &v), at)
				asked++
				assert.Empty(t, nulls(api.Components.Schemas,
					of.Get.Responses["200"].Content["application/json"].Schema, v, at), span+more)
			}
		}
	}
	assert.Greater(t, asked, 100)
}
