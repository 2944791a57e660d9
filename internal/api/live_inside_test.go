package api

import (
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestListener_WhoIsTooSlowLosesTheOldestAndIsTold(t *testing.T) {
	l := &listener{in: &liveInput{Asks: []string{"/hosts"}}, waiting: make(chan []any, waitingMoments)}
	l.last = [][]byte{[]byte("as before")}
	for i := range waitingMoments {
		l.put([]any{i})
	}
	assert.Zero(t, l.lost())
	assert.NotNil(t, l.last[0])
	for i := range 3 {
		l.put([]any{waitingMoments + i})
	}
	assert.Equal(t, []any{3}, <-l.waiting)
	assert.Equal(t, 3, l.lost())
	assert.Zero(t, l.lost(), "it is told once")
	assert.Nil(t, l.last[0], "what was lost is told again, though it does not change")
}

// TestRoom_AnswersOnceAMomentHoweverManyFollow: by what they may see, what they ask, and their pace.
func TestRoom_AnswersOnceAMomentHoweverManyFollow(t *testing.T) {
	var r liveRoom
	var made atomic.Int32
	at := time.Date(2026, 10, 11, 12, 0, 0, 0, time.UTC)
	ask := func(role, what string, pace int, at time.Time) {
		var all sync.WaitGroup
		for range 20 {
			all.Go(func() {
				a := r.answer(role, what, pace, at, func() answered {
					time.Sleep(time.Millisecond)
					return answered{200, []byte{byte(made.Add(1))}}
				})
				assert.Len(t, a.body, 1)
			})
		}
		all.Wait()
	}
	for i, x := range []struct {
		role, what string
		pace       int
		at         time.Time
	}{{"reader", "/hosts", 5, at}, {"administrator", "/hosts", 5, at}, {"reader", "/tenants", 5, at},
		{"reader", "/hosts", 1, at}, {"reader", "/hosts", 5, at.Add(5 * time.Second)},
		{"reader", "/hosts", 5, at.Add(2 * time.Minute)}} {
		ask(x.role, x.what, x.pace, x.at)
		assert.EqualValues(t, i+1, made.Load())
	}
	assert.Len(t, r.answers, 1, "what nobody follows any more is let go")
}
