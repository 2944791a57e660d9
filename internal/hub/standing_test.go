package hub_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/internal/hub"
	"vinescale/internal/store"
)

// played is a fixture that sends minutes in which a job used as many tenths of a core as its digits say; a dot is a
// minute in which it was not there.
type played struct {
	*actsFixture
	minute int
}

func (p *played) play(a, b string) {
	for i := range a {
		var jobs []account.Workload
		var cores []int64
		for name, use := range map[string]string{"frost-ens": a, "leaf-train": b} {
			if use[i] != '.' {
				jobs = append(jobs, job(name, "frost"))
				cores = append(cores, int64(use[i]-'0'))
			}
		}
		p.dress = func(iv *account.Interval) {
			for k := range iv.Usages {
				iv.Usages[k].Units[amount.CPU] = cores[k] * 6e6
			}
		}
		p.now = noon.Add(time.Duration(p.minute+1)*time.Minute + 100*time.Second)
		require.NoError(p.t, p.send(p.minute, jobs...))
		p.minute++
	}
}

func newPlayed(t *testing.T) *played {
	p := &played{newActs(t), 60}
	p.now = noon.Add(61 * time.Minute)
	return p
}

func (p *played) minutes(list []hub.Firing) (at []int, names []string) {
	for _, f := range list {
		at, names = append(at, int(f.At.Sub(noon).Minutes())), append(names, f.Name)
	}
	return at, names
}

func TestStanding_IsTriedOnWhatWas(t *testing.T) {
	p := newPlayed(t)
	p.play("5559955555.555", "1119999911.111") // from 13:00 on
	rule := act.Standing{
		Condition: "cpu_cores_mean >= 0.5 && kind == 'job'",
		For:       3 * time.Minute,
		PerHour:   2,
		Verb:      act.Pause,
	}
	span := question.Span{From: noon.Add(time.Hour), To: noon.Add(90 * time.Minute)}
	trial, err := p.TryStanding(ctx, &rule, span)
	require.NoError(t, err)
	at, names := p.minutes(trial.Firings)
	assert.Equal(t, []int{63, 66, 74}, at, "one for each stretch; where it was not there one ended")
	assert.Equal(t, []string{"frost-ens", "leaf-train", "frost-ens"}, names)
	assert.Equal(t, 18, trial.Minutes)
	require.NotNil(t, trial.Stops, "three in an hour are more than two")
	assert.Equal(t, 74, int(trial.Stops.At.Sub(noon).Minutes()))

	rule.Except = "name == 'frost-ens' && cpu_cores_mean < 0.9"
	trial, err = p.TryStanding(ctx, &rule, span)
	require.NoError(t, err)
	at, _ = p.minutes(trial.Firings)
	assert.Equal(t, []int{66}, at)
	assert.Nil(t, trial.Stops)

	rule.Except, rule.Hours = "", "13:05-13:10"
	trial, err = p.TryStanding(ctx, &rule, span)
	require.NoError(t, err)
	at, _ = p.minutes(trial.Firings)
	assert.Equal(t, []int{66}, at)

	// What began before the span fires in it only if its time is up in it.
	rule.Hours = ""
	for from, want := range map[int][]int{62: {63, 66, 74}, 63: {66, 74}, 64: {66, 74}, 66: {74}} {
		trial, err = p.TryStanding(
			ctx,
			&rule,
			question.Span{From: noon.Add(time.Duration(from) * time.Minute), To: span.To},
		)
		require.NoError(t, err)
		at, _ = p.minutes(trial.Firings)
		assert.Equal(t, want, at, "from minute %d", from)
	}
	assert.Empty(t, p.take(p.host), "nothing is done")
}

func TestStanding_ActsOnceNamesItselfAndStops(t *testing.T) {
	p := newPlayed(t)
	rule := act.Standing{
		Name:      "loud",
		Condition: "cpu_cores_mean >= 0.5",
		For:       2 * time.Minute,
		PerHour:   2,
		Verb:      act.Pause,
	}
	require.NoError(t, p.AddStanding(ctx, &rule))
	assert.Equal(t, hub.Conflict, classOf(p.AddStanding(ctx, &rule)))
	p.play("555", "000")
	require.NoError(t, p.StandOnce(ctx))
	assert.Empty(t, p.take(p.host), "it is off")

	require.NoError(t, p.SwitchStanding(ctx, "loud", true)) // during minute 64, by the clock
	p.play("55", "00")
	require.NoError(t, p.StandOnce(ctx))
	assert.Empty(t, p.take(p.host), "what was before it was switched on does not count")
	p.play("55", "00")
	require.NoError(t, p.StandOnce(ctx))
	orders := p.take(p.host)
	require.Len(t, orders, 1, "it has held for two minutes since")
	assert.Equal(t, "job:frost-ens", orders[0].Request.Target.Key)
	list, _, err := p.Interventions(ctx, &store.InterventionsOf{First: 10})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(
		t,
		[]string{"loud", "rule loud", "cpu_cores_mean >= 0.5 for 2m"},
		[]string{list[0].Rule, list[0].Who,
			list[0].Reason},
	)
	p.play("5555", "0000")
	require.NoError(t, p.StandOnce(ctx))
	require.NoError(t, p.StandOnce(ctx))
	assert.Empty(t, p.take(p.host), "once for as long as it holds")

	p.play("0055055", "0000000") // again, and once more
	require.NoError(t, p.StandOnce(ctx))
	rules, err := p.StandingRules(ctx)
	require.NoError(t, err)
	assert.False(t, rules[0].IsOn, "the third in an hour stops it")
	assert.Contains(t, rules[0].Stopped, "more than 2 times in an hour; next was frost-ens on terrace-1")
	list, _, err = p.Interventions(ctx, &store.InterventionsOf{First: 10})
	require.NoError(t, err)
	assert.Len(t, list, 2)
	trail, err := p.Acts(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, "stop standing rule", trail[0].Act)

	note := act.Standing{
		Name:      "noted",
		Condition: "name == 'leaf-train'",
		For:       time.Minute,
		PerHour:   9,
		Verb:      act.Note,
	}
	require.NoError(t, p.AddStanding(ctx, &note))
	require.NoError(t, p.SwitchStanding(ctx, "noted", true))
	p.play("0000", "0000")
	require.NoError(t, p.StandOnce(ctx))
	list, _, err = p.Interventions(ctx, &store.InterventionsOf{First: 1})
	require.NoError(t, err)
	assert.Equal(t, []any{"noted", act.Note, act.Done, (*act.Outcome)(nil)},
		[]any{list[0].Rule, list[0].Verb, list[0].State, list[0].Outcome})
	require.NoError(t, p.RemoveStanding(ctx, "noted"))
	assert.Equal(t, hub.NotFound, classOf(p.RemoveStanding(ctx, "noted")))
	assert.Equal(t, hub.NotFound, classOf(p.SwitchStanding(ctx, "noted", true)))
	bad := act.Standing{Name: "bad", Condition: "cpu > 1", For: time.Minute, PerHour: 1, Verb: act.Pause}
	assert.Equal(t, hub.Invalid, classOf(p.AddStanding(ctx, &bad)))
}
