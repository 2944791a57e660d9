package api_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/api"
	"vinescale/internal/wire"
)

// teller tells frames of one host.
type teller struct {
	*service
	host, credential string
}

func (s *service) teller(host string) *teller {
	r, err := http.NewRequest("POST", s.URL+"/api/v1/hosts", strings.NewReader(fmt.Sprintf(`{"name":%q}`, host)))
	require.NoError(s.t, err)
	r.Header.Set("Authorization", "Bearer "+s.token)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(s.t, err)
	defer answer.Body.Close()
	var e api.Enrolment
	require.NoError(s.t, json.NewDecoder(answer.Body).Decode(&e))
	return &teller{s, host, e.Credential}
}

type named struct{}

func (named) Workload(id account.WorkloadID) account.Workload {
	return account.Workload{
		Key:  fmt.Sprint("container:must-", id),
		Kind: amount.Container,
		Name: fmt.Sprint("must-", id),
	}
}
func (named) ProgramName(int32) string { return "must" }

// tick tells a frame of five seconds, in which workloads ran for so many CPU seconds each; it returns the status and
// how fast the host is wanted to be read.
func (t *teller) tick(from time.Time, encoding string, cpu ...int64) (status int, tickMillis int64) {
	iv := &account.Interval{Boot: "b", From: from, To: from.Add(5 * time.Second), ElapsedMillis: 5000, Ticks: 1,
		CPUCount: 4}
	sum := int64(0)
	for i, s := range cpu {
		u := account.Usage{Workload: account.WorkloadID(i)}
		u.Units[amount.CPU] = s * 1e6
		sum += s * 1e6
		iv.Usages = append(iv.Usages, u)
	}
	iv.Ledgers[amount.CPU] = account.Ledger{Capacity: account.Line{Units: 20e6}, Used: account.Line{Units: sum},
		Idle: account.Line{Units: 20e6 - sum}}
	b := &wire.Batch{Version: wire.Version, Host: t.host, Pace: &wire.Pace{TickMillis: 5000},
		Intervals: []*wire.Interval{wire.FromInterval(iv, 1, "v2", named{})}}
	encode := wire.Encode
	if encoding == "" {
		encode = wire.Plain
	}
	body, err := encode(b)
	require.NoError(t.t, err)
	r, err := http.NewRequest("POST", t.URL+"/api/v1/frames", bytes.NewReader(body))
	require.NoError(t.t, err)
	r.Header.Set("Authorization", "Bearer "+t.credential)
	r.Header.Set("Content-Type", wire.TypeProtobuf)
	r.Header.Set("Content-Encoding", encoding)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t.t, err)
	defer answer.Body.Close()
	var receipt api.FrameReceipt
	require.NoError(t.t, json.NewDecoder(answer.Body).Decode(&receipt))
	return answer.StatusCode, receipt.TickMillis
}

// event is one that a listener was sent.
type event struct {
	name string
	data json.RawMessage
}

// follow listens to questions, until the test ends.
func (s *service) follow(pace int, asks ...string) <-chan event {
	ctx, cancel := context.WithCancel(context.Background())
	s.t.Cleanup(cancel)
	q := url.Values{"ask": asks, "pace": {fmt.Sprint(pace)}}
	r, err := http.NewRequestWithContext(ctx, "GET", s.URL+"/api/v1/live?"+q.Encode(), nil)
	require.NoError(s.t, err)
	r.Header.Set("Authorization", "Bearer "+s.token)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(s.t, err)
	require.Equal(s.t, 200, answer.StatusCode)
	s.t.Cleanup(func() { answer.Body.Close() })
	events := make(chan event, 100)
	go func() {
		defer close(events)
		var e event
		for lines := bufio.NewScanner(answer.Body); lines.Scan(); {
			switch name, value, _ := strings.Cut(lines.Text(), ": "); name {
			case "event":
				e.name = value
			case "data":
				e.data = json.RawMessage(value)
			case "":
				events <- e
			}
		}
	}()
	return events
}

// answers takes events until there is an answer to each of so many questions.
func answers(t *testing.T, events <-chan event, n int) map[int]api.LiveAnswer {
	got := map[int]api.LiveAnswer{}
	for len(got) < n {
		select {
		case e := <-events:
			if e.name == "answer" {
				var a api.LiveAnswer
				require.NoError(t, json.Unmarshal(e.data, &a))
				got[a.Ask] = a
			}
		case <-time.After(3 * time.Minute):
			require.Fail(t, "no answer came", "%d of %d did", len(got), n)
		}
	}
	return got
}

func TestLive_FollowsWhatChangesAndTellsTheRestOnce(t *testing.T) {
	s := newService(t)
	cellar := s.teller("cellar-1")
	begin := time.Now().Truncate(5 * time.Second).Add(-10 * time.Second)
	status, wanted := cellar.tick(begin, "zstd", 3, 4)
	require.Equal(t, []any{200, int64(0)}, []any{status, wanted})

	events := s.follow(
		1,
		"/ledger?of=cpu&by=workload",
		"/hosts",
		"/ledger?of=grapes",
		"/events",
		"http://else.test/x",
		"/tokens",
	)
	got := answers(t, events, 6)
	amounts := func(a api.LiveAnswer) map[string]float64 {
		var l struct {
			From   time.Time
			Shares []struct {
				Name   string
				Amount float64
			}
		}
		require.NoError(t, json.Unmarshal(a.Body, &l))
		by := map[string]float64{}
		for _, x := range l.Shares {
			by[x.Name] = x.Amount
		}
		return by
	}
	assert.Equal(t, map[string]float64{"must-0": 3, "must-1": 4}, amounts(got[0]),
		"workloads are known by the first frame that tells of them")
	assert.Equal(t, []int{200, 200, 422, 422, 422, 200},
		[]int{got[0].Status, got[1].Status, got[2].Status, got[3].Status, got[4].Status, got[5].Status})
	assert.Contains(t, string(got[3].Body), "without end")

	status, wanted = cellar.tick(begin.Add(5*time.Second), "", 5, 1)
	assert.Equal(t, []any{200, int64(1000)}, []any{status, wanted}, "somebody looks")
	next := answers(t, events, 1)
	require.Contains(t, next, 0, "nothing else changed")
	assert.Equal(t, map[string]float64{"must-0": 5, "must-1": 1}, amounts(next[0]))
}

func TestLive_IsOfOneSpanAndOfNow(t *testing.T) {
	s := newService(t)
	for query, want := range map[string]string{
		"live=5s&from=2026-10-11T12:00:00Z": "leave out from and to", "live=grapes": "a span of", "live=2m": "1s to 1m",
		"live=5s&span=16m": "held for 15m", "live=5s&span=x": "a span of", "live=5s&host=cellar-9": "cellar-9",
	} {
		status, detail := s.ask("GET", "/api/v1/ledger?"+query, "")
		assert.GreaterOrEqual(t, status, 404, query)
		assert.Contains(t, detail, want, query)
	}
	status, detail := s.ask("GET", "/api/v1/ledger?live=5s", "")
	assert.Equal(t, 200, status, detail)
	for _, query := range []string{"pace=0", "pace=61", strings.Repeat("ask=/hosts&", 65)} {
		status, _ := s.ask("GET", "/api/v1/live?"+query, "")
		assert.Equal(t, 422, status, query)
	}
}
