package api

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"vinescale/internal/console"
	"vinescale/internal/hub"
	"vinescale/internal/store"
)

// Prefix is where the interface is, with its version.
const Prefix = "/api/v1"

func init() { huma.DefaultArrayNullable = false } // lists are empty, never null

// New returns the service's handler.
func New(h *hub.Hub, version string) http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.RequestID, logRequests, middleware.Recoverer, secureHeaders)
	register(r, h, version)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("alive\n")) })
	r.Get("/readyz", func(w http.ResponseWriter, req *http.Request) {
		ctx, cancel := context.WithTimeout(req.Context(), 2*time.Second)
		defer cancel()
		if err := h.Ready(ctx); err != nil {
			slog.Warn("not ready", "error", err)
			http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
			return
		}
		w.Write([]byte("ready\n"))
	})
	r.NotFound(serveConsole(console.Files()))
	return r
}

// OpenAPI is the description of the interface as JSON, generated from the handlers.
func OpenAPI(version string) ([]byte, error) {
	return register(chi.NewRouter(), nil, version).OpenAPI().MarshalJSON()
}

func register(r chi.Router, h *hub.Hub, version string) huma.API {
	config := huma.DefaultConfig("Vine Scale", version)
	config.Info.Description = "The account book of shared hosts: who used which part of what, with a ledger that " +
		"balances."
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = Prefix+"/openapi", "", ""
	config.Formats = map[string]huma.Format{"application/json": jsonFormat(), "json": jsonFormat()}
	config.CreateHooks = nil // no $schema fields in answers
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token": {Type: "http", Scheme: "bearer"},
	}
	config.Security = []map[string][]string{{"token": {}}}
	api := humachi.New(r, config)
	s := &service{hub: h, gates: newGates(), router: r}
	api.UseMiddleware(s.authenticate(api), fitTexts(api), s.limit(api))
	for _, routes := range []func(huma.API, *service){
		signInRoutes, registerRoutes, wordRoutes, choiceRoutes, folioRoutes,
		hostRoutes, ledgerRoutes, balanceRoutes, balancesRoutes, timelineRoutes,
		seriesRoutes, pastRoutes, tenantRoutes, ruleRoutes, quotaRoutes, pinRoutes, pinPlanRoutes,
		statementRoutes, whatIfRoutes, unusedRoutes, tokenRoutes, actRoutes, orderRoutes, standingRoutes,
		intervalRoutes, noticeRoutes, frameRoutes, liveRoutes, paceRoutes, eventRoutes, tenancyRoutes,
		workloadRoutes, aboutRoutes, figureRoutes, sensorRoutes, machineRoutes, auditRoutes, verifyRoutes,
	} {
		routes(api, s)
	}
	return api
}

type service struct {
	hub    *hub.Hub
	gates  gates
	router http.Handler
	live   liveRoom
}

type roleKey struct{}

// Metadata of an operation.
const (
	access  = "access"  // which roles may call it; none is open to all
	sends   = "sends"   // it is intake
	endless = "endless" // its answer has no end
)

func readers() map[string]any {
	return map[string]any{access: []string{hub.Administrator, hub.Operator, hub.Reader}}
}

// operators are those who may act: what on, their scope says. Their requests wait for hosts.
func operators() map[string]any {
	return map[string]any{access: []string{hub.Administrator, hub.Operator}, endless: true}
}
func administrators() map[string]any { return map[string]any{access: []string{hub.Administrator}} }
func collectors() map[string]any {
	return map[string]any{access: []string{hub.Collector}, sends: true}
}
func watchers() map[string]any {
	return map[string]any{access: []string{hub.Administrator, hub.Operator, hub.Reader}, endless: true}
}

const cookieName = "vinescale_token"

// authenticate finds the caller's token, in the Authorization header or the console's cookie, and checks its role.
func (s *service) authenticate(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		allowed, limited := ctx.Operation().Metadata[access].([]string)
		if !limited {
			next(ctx)
			return
		}
		if role, is := ctx.Context().Value(insideKey{}).(string); is { // a listener's, who was let in with it
			if !slices.Contains(allowed, role) {
				writeProblem(api, ctx, notAllowed(role, allowed))
				return
			}
			next(huma.WithValue(ctx, roleKey{}, store.Token{Role: role}))
			return
		}
		token, fromCookie := bearer(ctx)
		t, err := s.hub.SignIn(ctx.Context(), token)
		if err != nil {
			dropBody(ctx)
			writeProblem(api, ctx, err)
			return
		}
		if fromCookie && ctx.Method() != http.MethodGet && ctx.Header("X-Vinescale") == "" {
			// A form on another site can send the cookie but not this header.
			dropBody(ctx)
			writeProblem(api, ctx, &hub.Problem{Class: hub.Denied,
				Detail: "a change by cookie needs the header X-Vinescale"})
			return
		}
		if !slices.Contains(allowed, t.Role) {
			dropBody(ctx)
			writeProblem(api, ctx, notAllowed(t.Role, allowed))
			return
		}
		signed := huma.WithValue(ctx, roleKey{}, t)
		next(huma.WithContext(signed, hub.As(signed.Context(), t)))
	}
}

func notAllowed(role string, allowed []string) error {
	return &hub.Problem{Class: hub.Denied,
		Detail: "a token of role " + role + " may not do this: it takes " + strings.Join(allowed, " or ")}
}

func bearer(ctx huma.Context) (token string, fromCookie bool) {
	if t, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); ok {
		return strings.TrimSpace(t), false
	}
	if c, err := huma.ReadCookie(ctx, cookieName); err == nil {
		return c.Value, true
	}
	return "", false
}

func tokenOf(ctx context.Context) store.Token {
	t, _ := ctx.Value(roleKey{}).(store.Token)
	return t
}

var statuses = map[hub.Class]int{
	hub.Invalid: http.StatusUnprocessableEntity, hub.NotFound: http.StatusNotFound, hub.Conflict: http.StatusConflict,
	hub.Denied: http.StatusForbidden, hub.NoToken: http.StatusUnauthorized,
	hub.NotYet: http.StatusNotImplemented, hub.Early: http.StatusTooEarly, hub.Busy: http.StatusServiceUnavailable,
}

// ProblemType is the RFC 9457 type of a class of problem.
func ProblemType(c hub.Class) string { return "urn:vinescale:problem:" + string(c) }

// asProblem turns an error into an answer by RFC 9457. What the caller cannot mend is logged and not told.
func asProblem(err error) error {
	if err == nil {
		return nil
	}
	var p *hub.Problem
	if errors.As(err, &p) {
		status := statuses[p.Class]
		return &huma.ErrorModel{Type: ProblemType(p.Class), Title: http.StatusText(status), Status: status,
			Detail: p.Detail}
	}
	if errors.Is(err, context.Canceled) {
		return &huma.ErrorModel{Title: "Cancelled", Status: 499, Detail: "the caller went away"}
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return &huma.ErrorModel{Type: ProblemType(hub.Busy), Title: http.StatusText(http.StatusServiceUnavailable),
			Status: http.StatusServiceUnavailable,
			Detail: "the answer took longer than " + answerWithin.String() + ": ask for a shorter span, or later"}
	}
	slog.Error("request failed", "error", err)
	return &huma.ErrorModel{
		Type: "urn:vinescale:problem:internal", Title: http.StatusText(http.StatusInternalServerError),
		Status: http.StatusInternalServerError,
		Detail: "the service could not answer; its log says why",
	}
}

func writeProblem(api huma.API, ctx huma.Context, err error) {
	m := asProblem(err).(*huma.ErrorModel)
	ctx.SetHeader("Content-Type", "application/problem+json")
	if m.Status == http.StatusUnauthorized {
		ctx.SetHeader("WWW-Authenticate", "Bearer")
	}
	ctx.SetStatus(m.Status)
	api.Marshal(ctx.BodyWriter(), "application/json", m)
}

func secureHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; "+
				"base-uri 'none'")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		w.Header().Set("Referrer-Policy", "no-referrer")
		next.ServeHTTP(w, r)
	})
}

func logRequests(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		slog.Debug(
			"request",
			"method",
			r.Method,
			"path",
			r.URL.Path,
			"status",
			ww.Status(),
			"bytes",
			ww.BytesWritten(),
			"took",
			time.Since(start),
			"id",
			middleware.GetReqID(r.Context()),
		)
	})
}

// serveConsole serves the console's files, and its first page for any address that is one of its views.
func serveConsole(files fs.FS) http.HandlerFunc {
	server := http.FileServerFS(files)
	return func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/") {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusNotFound)
			w.Write([]byte(`{"type":"` + ProblemType(hub.NotFound) +
				`","title":"Not Found","status":404,"detail":"there is no such address; ` + Prefix +
				`/openapi.json describes those there are"}`))
			return
		}
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(files, name); err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				// their names change with their content
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			server.ServeHTTP(w, r)
			return
		}
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			http.Error(w, "this vinescale was built without its console: build it with \"make build\"",
				http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		w.Write(page)
	}
}
