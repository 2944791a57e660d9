package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/folio"
	"vinescale/internal/hub"
)

// Matter is something that a plate of a folio may show.
type Matter struct {
	Name      string   `json:"name" doc:"Of a measure of the register, or of a list such as events."`
	Title     string   `json:"title"`
	Meaning   string   `json:"meaning"`
	Unit      string   `json:"unit" doc:"Of its figures; empty of a list."`
	Subjects  []string `json:"subjects" doc:"Whose it may be."`
	Groupings []string `json:"groupings" doc:"What it may be grouped by, beside label:KEY; none of a list."`
	Forms     []Formed `json:"forms" doc:"How it may be drawn."`
}

// Formed are the forms of a matter for some kinds of subjects.
type Formed struct {
	IsGrouped bool     `json:"grouped" doc:"Where it is grouped by something."`
	Subject   string   `json:"subject"`
	Forms     []string `json:"forms" doc:"The one that is proposed first."`
}

func matterOf(m *folio.Matter) Matter {
	x := Matter{Name: m.Name, Title: m.Title, Meaning: m.Meaning, Unit: m.Unit, Subjects: m.Subjects,
		Groupings: append([]string{}, m.Groupings...), Forms: []Formed{}}
	for _, s := range m.Subjects {
		for _, isGrouped := range []bool{false, true} {
			if isGrouped && len(m.Groupings) == 0 {
				continue
			}
			f := Formed{IsGrouped: isGrouped, Subject: s}
			for _, form := range m.Forms(isGrouped, s) {
				f.Forms = append(f.Forms, string(form))
			}
			x.Forms = append(x.Forms, f)
		}
	}
	return x
}

// FolioToKeep is a folio that is to be kept.
type FolioToKeep struct {
	Folio    folio.Folio `json:"folio"`
	IsShared bool        `json:"shared" doc:"With everybody of the site; else it is of whoever keeps it."`
}

type matterOutput struct{ Body []Matter }

type foliosOutput struct{ Body []hub.FolioLine }

type folioOutput struct {
	ETag string `header:"ETag" doc:"Changes when the folio does."`
	Body hub.KeptFolio
}

// FolioName chooses a folio.
type FolioName struct {
	Name string `path:"name" doc:"By which it is addressed."`
}

type addFolioInput struct{ Body FolioToKeep }

type changeFolioInput struct {
	FolioName
	IfMatch string `header:"If-Match" doc:"The ETag of the folio that was seen."`
	Body    FolioToKeep
}

type folioSchemaOutput struct{ Body map[string]any }

func keptOutput(k hub.KeptFolio, err error) (*folioOutput, error) {
	return &folioOutput{`"folio-` + strconv.FormatInt(k.Version, 10) + `"`, k}, asProblem(err)
}

// folioVersion reads an ETag of a folio; 0 for none.
func folioVersion(etag string) (int64, error) {
	if etag == "" || etag == "*" {
		return 0, nil
	}
	var v int64
	if _, err := fmt.Sscanf(etag, `"folio-%d"`, &v); err != nil || v <= 0 {
		return 0, &hub.Problem{Class: hub.Invalid, Detail: "If-Match " + etag + " is no ETag of a folio"}
	}
	return v, nil
}

func folioRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-matters", Method: http.MethodGet, Path: Prefix + "/plates",
		Summary: "What plates of folios may show, and in which forms", Metadata: readers(),
	}, func(context.Context, *struct{}) (*matterOutput, error) {
		out := &matterOutput{}
		for _, m := range folio.Matters() {
			out.Body = append(out.Body, matterOf(&m))
		}
		return out, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "get-folio-schema", Method: http.MethodGet, Path: Prefix + "/folio-schema",
		Summary: "The JSON schema of folios as they are taken away and brought in", Metadata: readers(),
	}, func(context.Context, *struct{}) (*folioSchemaOutput, error) {
		var out folioSchemaOutput
		return &out, asProblem(json.Unmarshal(FolioSchema(), &out.Body))
	})
	huma.Register(api, huma.Operation{
		OperationID: "list-folios", Method: http.MethodGet, Path: Prefix + "/folios",
		Summary:  "The folios that whoever asks may see: those shipped, their own, and those of the site",
		Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*foliosOutput, error) {
		lines, err := s.hub.Folios(ctx)
		return &foliosOutput{lines}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "add-folio", Method: http.MethodPost, Path: Prefix + "/folios",
		Summary: "Keep a new folio; its name is made of its title", Metadata: readers(), DefaultStatus: 201,
	}, func(ctx context.Context, in *addFolioInput) (*folioOutput, error) {
		return keptOutput(s.hub.AddFolio(ctx, in.Body.Folio, in.Body.IsShared))
	})
	huma.Register(api, huma.Operation{
		OperationID: "get-folio", Method: http.MethodGet, Path: Prefix + "/folios/{name}",
		Summary: "One folio", Metadata: readers(),
	}, func(ctx context.Context, in *FolioName) (*folioOutput, error) {
		return keptOutput(s.hub.Folio(ctx, in.Name))
	})
	huma.Register(api, huma.Operation{
		OperationID: "change-folio", Method: http.MethodPut, Path: Prefix + "/folios/{name}",
		Summary: "Keep a folio in place of the one that was seen", Metadata: readers(),
	}, func(ctx context.Context, in *changeFolioInput) (*folioOutput, error) {
		seen, err := folioVersion(in.IfMatch)
		if err != nil {
			return nil, asProblem(err)
		}
		return keptOutput(s.hub.ChangeFolio(ctx, in.Name, in.Body.Folio, in.Body.IsShared, seen))
	})
	huma.Register(api, huma.Operation{
		OperationID: "remove-folio", Method: http.MethodDelete, Path: Prefix + "/folios/{name}",
		Summary: "Forget a folio", Metadata: readers(), DefaultStatus: 204,
	}, func(ctx context.Context, in *FolioName) (*struct{}, error) {
		return nil, asProblem(s.hub.RemoveFolio(ctx, in.Name))
	})
}

// FolioSchema is the JSON schema (draft 2020-12) of a folio as it is taken away and brought in.
func FolioSchema() []byte {
	registry := huma.NewMapRegistry("#/$defs/", huma.DefaultSchemaNamer)
	registry.Schema(reflect.TypeFor[folio.Folio](), true, "")
	defs := map[string]any{}
	for name, s := range registry.Map() {
		defs[name] = s
	}
	raw, err := json.MarshalIndent(map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Vine Scale folio",
		"$ref": "#/$defs/Folio", "$defs": defs}, "", "  ")
	if err != nil { // it is made of types of this program alone
		panic(err)
	}
	return append(raw, '\n')
}
