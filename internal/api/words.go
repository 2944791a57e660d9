package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/glossary"
)

// Word is the explanation of one word that a figure, a column or an event comes with.
type Word struct {
	Word      string     `json:"word" doc:"As it stands in figures, columns and expressions."`
	Sort      string     `json:"sort" doc:"What sort of word it is, such as measure, column or verdict."`
	Title     string     `json:"title" doc:"For people."`
	Meaning   string     `json:"meaning" doc:"In whole sentences."`
	Facts     []WordFact `json:"facts" doc:"What more is known of it, such as its unit."`
	OfCommand string     `json:"of_command,omitempty" doc:"Of a column whose name means something else elsewhere."`
}

// WordFact is something that is known of a word.
type WordFact struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// WordsOf are explanations as they leave the program.
func WordsOf(entries []glossary.Entry) []Word {
	words := make([]Word, len(entries))
	for i, e := range entries {
		words[i] = Word{e.Word, string(e.Sort), e.Name(), e.Meaning, make([]WordFact, len(e.Facts)), e.Only}
		for k, f := range e.Facts {
			words[i].Facts[k] = WordFact(f)
		}
	}
	return words
}

type wordsInput struct {
	Find string `query:"find" doc:"Only those that are called so, or explained with these words, the best first."`
}

type wordsOutput struct{ Body []Word }

func wordRoutes(api huma.API, _ *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-words", Method: http.MethodGet, Path: Prefix + "/words",
		Summary: "What every measure, column, source, verdict, event and act means", Metadata: readers(),
	}, func(_ context.Context, in *wordsInput) (*wordsOutput, error) {
		if in.Find != "" {
			return &wordsOutput{WordsOf(glossary.Find(in.Find))}, nil
		}
		return &wordsOutput{WordsOf(glossary.All())}, nil
	})
}
