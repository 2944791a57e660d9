package api

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"vinescale/internal/hub"
	"vinescale/internal/store"
)

const (
	// frameLag is how long after the full second answers are made: readings of that second have come by then.
	frameLag = 400 * time.Millisecond
	// waitingMoments is how many moments wait for a listener who is slow to take them; beyond it, the oldest is lost.
	waitingMoments = 4
	// slowest is for how long a listener may take nothing at all before the connection is given up.
	slowest = time.Minute
)

type liveInput struct {
	Pace int      `query:"pace" minimum:"1" maximum:"60" default:"5" doc:"Seconds between answers."`
	Host string   `query:"host" doc:"The host whose readings the pace tells of; all when left out."`
	Asks []string `query:"ask,explode" maxItems:"64" doc:"A path and query below /api/v1, as one asks once."`
}

// LiveAnswer is the answer to one of the questions that a listener follows.
type LiveAnswer struct {
	Ask    int             `json:"ask" doc:"Which of them, from 0 on."`
	At     time.Time       `json:"at"`
	Status int             `json:"status" doc:"As if it had been asked once."`
	Body   json.RawMessage `json:"body" doc:"The answer, or what was wrong."`
}

// LivePace is sent when it changes how hosts are read.
type LivePace struct{ hub.Pace }

// LiveMissed is sent to a listener who was too slow.
type LiveMissed struct {
	Moments int `json:"moments" doc:"Whose answers were left out."`
}

// liveRoutes streams the answers to questions, so that a view moves without asking.
func liveRoutes(api huma.API, s *service) {
	sse.WriteTimeout = slowest
	sse.Register(api, huma.Operation{
		OperationID: "follow", Method: http.MethodGet, Path: Prefix + "/live",
		Summary: "Server-sent events: the answers to questions, anew at a pace where they changed",
		Description: "Questions that take live are answered by live frames, of the newest ticks; others by the book. " +
			"A listener who is too slow loses answers, and is told how many. It also tells, as /events does, when " +
			"figures of a host were committed to the book.",
		Metadata: watchers(),
	}, map[string]any{"answer": LiveAnswer{}, "pace": LivePace{}, "missed": LiveMissed{},
		"committed": hub.Committed{}},
		func(ctx context.Context, in *liveInput, send sse.Sender) {
			l := &listener{service: s, in: in, token: tokenOf(ctx).Role, waiting: make(chan []any, waitingMoments)}
			ctx, cancel := context.WithCancel(ctx)
			defer cancel()
			go l.follow(ctx)
			committed := s.hub.Watch(ctx)
			for {
				var moment []any
				select {
				case <-ctx.Done():
					return
				case m := <-committed:
					moment = append(moment, m)
				case moment = <-l.waiting:
				}
				if n := l.lost(); n > 0 {
					moment = slices.Insert(moment, 0, any(LiveMissed{n}))
				}
				for _, event := range moment {
					if send.Data(event) != nil {
						return
					}
				}
			}
		})
}

type paceOutput struct{ Body LivePace }

func paceRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "get-pace", Method: http.MethodGet, Path: Prefix + "/pace",
		Summary: "How hosts are read now for those who look at them, and what that costs", Metadata: readers(),
	}, func(ctx context.Context, in *HostParam) (*paceOutput, error) {
		p, err := s.hub.Pace(ctx, in.Host)
		return &paceOutput{LivePace{p}}, asProblem(err)
	})
}

// listener is one who follows questions.
type listener struct {
	*service
	in      *liveInput
	token   string // what may be seen follows from the role
	waiting chan []any
	last    [][]byte
	pace    LivePace

	mu      sync.Mutex
	missing int
}

// follow makes the answers of each moment until the context ends.
func (l *listener) follow(ctx context.Context) {
	pace := time.Duration(l.in.Pace) * time.Second
	l.last = make([][]byte, len(l.in.Asks))
	moment := time.Now().Add(-frameLag).Truncate(pace) // the one that was is told at once
	for {
		if events := l.moment(ctx, moment); len(events) > 0 {
			l.put(events)
		}
		moment = moment.Add(pace)
		if late := time.Since(moment); late > pace { // it took too long to answer: the next is that of now
			moment = time.Now().Add(-frameLag).Truncate(pace)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(moment.Add(frameLag))):
		}
	}
}

// put has the answers of a moment wait for the listener. Where too many wait, those of the oldest moment are lost.
func (l *listener) put(events []any) {
	for {
		select {
		case l.waiting <- events:
			return
		default:
		}
		select {
		case <-l.waiting:
			l.mu.Lock()
			l.missing++
			l.last = make([][]byte, len(l.in.Asks)) // what was lost may be the last that is told of some question
			l.mu.Unlock()
		default:
		}
	}
}

// lost is of how many moments the answers were lost since it was asked last.
func (l *listener) lost() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := l.missing
	l.missing = 0
	return n
}

// moment answers the questions that have other answers than at the moment before.
func (l *listener) moment(ctx context.Context, at time.Time) (events []any) {
	for i, ask := range l.in.Asks {
		a := l.live.answer(l.token, ask, l.in.Pace, at, func() answered { return l.ask(ctx, ask, at) })
		if ctx.Err() != nil {
			return nil
		}
		if !bytes.Equal(a.body, l.last[i]) {
			l.last[i] = a.body
			events = append(events, LiveAnswer{i, at, a.status, a.body})
		}
	}
	ask := "/pace?host=" + url.QueryEscape(l.in.Host)
	var p LivePace
	a := l.live.answer(l.token, ask, l.in.Pace, at, func() answered { return l.ask(ctx, ask, at) })
	if json.Unmarshal(a.body, &p) == nil && a.status == http.StatusOK &&
		(l.pace.TickSeconds != p.TickSeconds || l.pace.Hosts != p.Hosts) {
		l.pace = p
		events = append(events, p)
	}
	return events
}

// answered is what a question was answered.
type answered struct {
	status int
	body   []byte
}

// ask asks a question as if it had come by itself.
func (l *listener) ask(ctx context.Context, ask string, at time.Time) answered {
	refuse := func(why string) answered {
		body, _ := json.Marshal(&huma.ErrorModel{Type: ProblemType(hub.Invalid), Status: 422, Detail: why})
		return answered{http.StatusUnprocessableEntity, body}
	}
	u, err := url.Parse(ask)
	if err != nil || u.Host != "" || !strings.HasPrefix(u.Path, "/") {
		return refuse("ask: write it as a path and a query below " + Prefix)
	}
	if u.Path == "/live" || u.Path == "/events" {
		return refuse("ask: an answer without end cannot be followed")
	}
	q := u.Query()
	if q.Get("from") == "" && q.Get("to") == "" {
		q.Set("live", (time.Duration(l.in.Pace) * time.Second).String())
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), answerWithin)
	defer cancel()
	ctx = store.WithNotes(ctx, l.live.notesOf(at))
	r, err := http.NewRequestWithContext(context.WithValue(ctx, insideKey{}, l.token), http.MethodGet,
		Prefix+u.EscapedPath()+"?"+q.Encode(), nil)
	if err != nil {
		return refuse("ask: " + err.Error())
	}
	w := &recorder{header: http.Header{}, status: http.StatusOK}
	l.router.ServeHTTP(w, r)
	return answered{w.status, bytes.TrimSpace(w.body.Bytes())}
}

// insideKey marks a request that the service makes of itself for a listener, with the role of its token.
type insideKey struct{}

// recorder keeps an answer.
type recorder struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (r *recorder) Header() http.Header         { return r.header }
func (r *recorder) WriteHeader(status int)      { r.status = status }
func (r *recorder) Write(b []byte) (int, error) { return r.body.Write(b) }

// liveRoom lets those who follow the same at the same pace share one answer a moment.
type liveRoom struct {
	mu      sync.Mutex
	answers map[string]*shared
	swept   time.Time
	notes   *store.Notes
	noted   time.Time // the moment they are of
}

// notesOf are what the answers of a moment share of what they read.
func (r *liveRoom) notesOf(at time.Time) *store.Notes {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.notes == nil || r.noted.Before(at) {
		r.notes, r.noted = &store.Notes{}, at
	}
	return r.notes
}

type shared struct {
	at   time.Time
	done chan struct{}
	answered
}

// answer is the answer of a moment: the one that is being made or was made for another listener, or a new one.
func (r *liveRoom) answer(role, ask string, pace int, at time.Time, work func() answered) answered {
	key := strings.Join([]string{role, time.Duration(pace).String(), ask}, "\x00")
	r.mu.Lock()
	if r.answers == nil || at.Sub(r.swept) > time.Minute { // what nobody follows any more is let go
		kept := map[string]*shared{}
		for k, x := range r.answers {
			if at.Sub(x.at) <= time.Minute {
				kept[k] = x
			}
		}
		r.answers, r.swept = kept, at
	}
	x := r.answers[key]
	if x != nil && !x.at.Before(at) {
		r.mu.Unlock()
		<-x.done
		return x.answered
	}
	x = &shared{at: at, done: make(chan struct{})}
	r.answers[key] = x
	r.mu.Unlock()
	defer close(x.done)
	x.answered = work()
	return x.answered
}
