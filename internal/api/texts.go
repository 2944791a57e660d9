package api

import (
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"strings"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/internal/hub"
)

// mostText is how long a text of a request may be, in bytes: a rule or a filter is the longest.
const mostText = 64 << 10

// unfit says why a text can be neither stored nor looked for; "" where it can.
func unfit(s string) string {
	switch {
	case strings.IndexByte(s, 0) >= 0:
		return "holds a NUL, which cannot be stored"
	case !utf8.ValidString(s):
		return "is not UTF-8"
	case len(s) > mostText:
		return fmt.Sprintf("is longer than %d bytes", mostText)
	}
	return ""
}

// fitTexts refuses requests whose parameters hold texts that no database takes, before any of them gets there.
func fitTexts(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		refuse := func(field, why string) {
			writeProblem(api, ctx, &hub.Problem{Class: hub.Invalid, Detail: field + ": " + why})
		}
		for _, p := range ctx.Operation().Parameters {
			if p.In == "path" {
				if why := unfit(ctx.Param(p.Name)); why != "" {
					refuse(p.Name, why)
					return
				}
			}
		}
		u := ctx.URL()
		for name, values := range u.Query() {
			for _, v := range values {
				if why := unfit(v); why != "" {
					refuse(name, why)
					return
				}
			}
		}
		next(ctx)
	}
}

// jsonFormat reads and writes bodies as JSON, and takes none that holds a text that no database takes.
func jsonFormat() huma.Format {
	return huma.Format{
		Marshal: func(w io.Writer, v any) error {
			// A list without elements is told as one that is empty: null is what is not known.
			if x := reflect.ValueOf(v); x.Kind() == reflect.Slice && x.IsNil() {
				v = []struct{}{}
			}
			return huma.DefaultJSONFormat.Marshal(w, v)
		},
		Unmarshal: func(data []byte, v any) error {
			if err := json.Unmarshal(data, v); err != nil {
				return err
			}
			if any, ok := v.(*any); ok { // which is how a body is read first, to be checked
				return fitBody("body", *any)
			}
			return nil
		},
	}
}

// fitBody finds the first text of a body that no database takes.
func fitBody(path string, v any) error {
	switch v := v.(type) {
	case string:
		if why := unfit(v); why != "" {
			return fmt.Errorf("%s: %s", path, why)
		}
	case []any:
		for i, x := range v {
			if err := fitBody(fmt.Sprintf("%s[%d]", path, i), x); err != nil {
				return err
			}
		}
	case map[string]any:
		for k, x := range v {
			if err := fitBody(fmt.Sprintf("%s.%.60s", path, k), k); err != nil {
				return err
			}
			if err := fitBody(fmt.Sprintf("%s.%.60s", path, k), x); err != nil {
				return err
			}
		}
	}
	return nil
}
