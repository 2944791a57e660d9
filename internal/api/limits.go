package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"vinescale/internal/hub"
	"vinescale/internal/store"
)

// Limits of what one caller, or all of them together, can take of the service.
const (
	// Questions wait in a queue of their own, so that many of them leave connections to the database for intake and
	// for readiness: it has 24.
	mostQuestions = 8
	mostIntake    = 6
	// An answer is made and sent within these times, or given up.
	answerWithin = 60 * time.Second
	sendWithin   = 2 * time.Minute
	// A body that is not wanted is not waited for.
	noTime = time.Millisecond
)

// gates let only so many requests of a kind work at once; the others wait their turn.
type gates struct{ questions, intake chan struct{} }

func newGates() gates {
	return gates{make(chan struct{}, mostQuestions), make(chan struct{}, mostIntake)}
}

// limit bounds a request by its kind, which its operation tells: events are sent for as long as the caller listens.
func (s *service) limit(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		_, w := humachi.Unwrap(ctx)
		wire := http.NewResponseController(w)
		if ctx.Operation().Metadata[endless] != nil {
			_ = wire.SetWriteDeadline(time.Time{}) // the one of an earlier request on the connection
			next(ctx)
			return
		}
		_ = wire.SetWriteDeadline(time.Now().Add(answerWithin + sendWithin))
		bounded, cancel := context.WithTimeout(ctx.Context(), answerWithin)
		defer cancel()
		gate := s.gates.questions
		if ctx.Operation().Metadata[sends] != nil {
			gate = s.gates.intake
		}
		select {
		case gate <- struct{}{}:
			defer func() { <-gate }()
			if ctx.Method() == http.MethodGet && bounded.Value(insideKey{}) == nil {
				bounded = store.WithNotes(bounded, &store.Notes{})
			}
			next(huma.WithContext(ctx, bounded))
		case <-bounded.Done():
			writeProblem(api, ctx, &hub.Problem{Class: hub.Busy,
				Detail: "the service has too much to answer now: ask again later"})
		}
	}
}

// dropBody answers a request without waiting for its body: whoever has no credential could hold a connection by never
// sending it.
func dropBody(ctx huma.Context) {
	_, w := humachi.Unwrap(ctx)
	_ = http.NewResponseController(w).SetReadDeadline(time.Now().Add(noTime))
	ctx.SetHeader("Connection", "close")
}
