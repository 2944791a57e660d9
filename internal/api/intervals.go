package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"vinescale/internal/hub"
	"vinescale/internal/wire"
)

// maxBatch bounds a batch as it is sent, in bytes.
const maxBatch = 16 << 20

type intervalInput struct {
	ContentType     string `header:"Content-Type"`
	ContentEncoding string `header:"Content-Encoding"`
	RawBody         []byte `contentType:"application/x-protobuf"`
}

// Receipt says what became of a batch.
type Receipt struct {
	Counted int `json:"intervals_counted"`
	Known   int `json:"intervals_known" doc:"Counted before; nothing was added."`
	Rows    int `json:"usage_rows"`

	Programs bool `json:"programs_apart" doc:"Rules ask for programs: brief ones are to be workloads of their own too."`
}

type intervalOutput struct{ Body Receipt }

func intervalRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "send-intervals", Method: http.MethodPost, Path: Prefix + "/intervals",
		Summary: "Send closed intervals of one host",
		Description: "Protobuf by internal/wire/interval.proto, or the same message as JSON; zstd as " +
			"Content-Encoding is taken. Sending again is safe: an interval counts once.",
		Metadata: collectors(), MaxBodyBytes: maxBatch, BodyReadTimeout: 60 * time.Second, SkipValidateBody: true,
	}, func(ctx context.Context, in *intervalInput) (*intervalOutput, error) {
		b, err := wire.Decode(in.RawBody, in.ContentType, in.ContentEncoding)
		if err != nil {
			return nil, asProblem(notTaken("the batch was not taken", err))
		}
		host, err := s.hub.HostByID(ctx, *tokenOf(ctx).HostID)
		if err != nil {
			return nil, asProblem(err)
		}
		taken, err := s.hub.Ingest(ctx, host, b)
		return &intervalOutput{Receipt{taken.New, taken.Known, taken.Rows, taken.Programs}}, asProblem(err)
	})
}

// notTaken says why a message was not taken. One of a newer version is its sender's to keep until this service is newer
// too; any other mistake is the sender's to mend.
func notTaken(what string, err error) error {
	class, then := hub.Invalid, ""
	if errors.Is(err, wire.ErrNewer) {
		class, then = hub.NotYet, ": keep it and send it again, and bring this service up to date"
	}
	return &hub.Problem{Class: class, Detail: what + ": " + err.Error() + then}
}

type noticeInput struct {
	RawBody []byte `contentType:"application/x-protobuf"`
}

func noticeRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "send-notices", Method: http.MethodPost, Path: Prefix + "/notices",
		Summary: "Send news of one host's workloads: that they came, changed names, or ended",
		Description: "Protobuf by the message Notices of internal/wire/interval.proto. It holds no figures, and " +
			"what it says is in the next interval too: one that is lost is only late.",
		Metadata: collectors(), MaxBodyBytes: maxBatch, SkipValidateBody: true, DefaultStatus: 204,
	}, func(ctx context.Context, in *noticeInput) (*struct{}, error) {
		n, err := wire.DecodeNotices(in.RawBody)
		if err != nil {
			return nil,
				asProblem(&hub.Problem{Class: hub.Invalid, Detail: "the notices were not taken: " + err.Error()})
		}
		host, err := s.hub.HostByID(ctx, *tokenOf(ctx).HostID)
		if err != nil {
			return nil, asProblem(err)
		}
		return nil, asProblem(s.hub.Notice(ctx, host, n))
	})
}

// eventRoutes streams commits, so that a view knows when to ask again.
func eventRoutes(api huma.API, s *service) {
	sse.Register(api, huma.Operation{
		OperationID: "watch", Method: http.MethodGet, Path: Prefix + "/events",
		Summary: "Server-sent events: figures of a host were committed", Metadata: watchers(),
	}, map[string]any{"committed": hub.Committed{}}, func(ctx context.Context, _ *struct{}, send sse.Sender) {
		for m := range s.hub.Watch(ctx) {
			if send.Data(m) != nil {
				return
			}
		}
	})
}
