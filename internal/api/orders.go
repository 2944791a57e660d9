package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/act"
	"vinescale/internal/hub"
)

// longestPoll is how long a host that asks for orders is kept waiting for some, in seconds: less than what commonly
// lies between gives up after.
const longestPoll = 25

type ordersInput struct {
	Nonce string `query:"nonce" required:"true" doc:"Chosen at random for this request: orders are signed with it."`
	Wait  int    `query:"wait" default:"25" minimum:"0" maximum:"25" doc:"Seconds to wait for orders."`
}

// Orders are what a host is to do.
type Orders struct {
	Orders []act.Signed `json:"orders"`
}

type ordersOutput struct{ Body Orders }

type reportInput struct {
	ID   string `path:"id"`
	Body hub.Report
}

func orderRoutes(api huma.API, s *service) {
	forHosts := func() map[string]any { return map[string]any{access: []string{hub.Collector}, endless: true} }
	huma.Register(api, huma.Operation{
		OperationID: "get-orders", Method: http.MethodGet, Path: Prefix + "/orders",
		Summary: "Ask for orders, and wait for some",
		Description: "A collector asks over and over. Each order is signed by the service's key, with the nonce of " +
			"this very request, and says for how long it may be begun.", Metadata: forHosts(),
	}, func(ctx context.Context, in *ordersInput) (*ordersOutput, error) {
		host, err := s.hub.HostByID(ctx, *tokenOf(ctx).HostID)
		if err != nil {
			return nil, asProblem(err)
		}
		wait := time.Duration(min(in.Wait, longestPoll)) * time.Second
		orders, err := s.hub.Orders(ctx, host, in.Nonce, wait)
		return &ordersOutput{Orders{orders}}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "report-order", Method: http.MethodPost, Path: Prefix + "/orders/{id}",
		Summary: "Say what an act would do, or what came of it", Metadata: forHosts(), MaxBodyBytes: 4 << 20,
	}, func(ctx context.Context, in *reportInput) (*struct{}, error) {
		host, err := s.hub.HostByID(ctx, *tokenOf(ctx).HostID)
		if err != nil {
			return nil, asProblem(err)
		}
		return nil, asProblem(s.hub.TakeReport(ctx, host, in.ID, &in.Body))
	})
}
