package act_test

import (
	"crypto/ed25519"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/act"
)

func ExampleRequest_Check() {
	r := act.Request{Verb: act.Cap, Target: act.Target{Form: act.OfWorkload, Key: "container:frost-grid"},
		Settings: map[string]string{"cpu": "2.50", "memory": "8GiB"}}
	clean, err := r.Check()
	fmt.Println(clean.Settings["cpu"], clean.Settings["memory"], err)
	r.Settings["cpu"] = "0"
	_, err = r.Check()
	fmt.Println(err)
	// Output:
	// 2.5 8589934592 <nil>
	// cpu "0": give a number of cores from 0.01 (cores that it may use at most, or none; such as 1.5)
}

func TestCheck_TakesWhatCanBeCarriedOutAndNothingElse(t *testing.T) {
	workload := act.Target{Form: act.OfWorkload, Key: "service:/press"}
	for _, x := range []struct {
		verb   act.Verb
		target act.Target
		name   string
		given  string
		want   string // "" where it is refused
	}{
		{act.Weigh, workload, "nice", "-20", "-20"},
		{act.Weigh, workload, "nice", "20", ""},
		{act.Weigh, workload, "nice", "1.5", ""},
		{act.Weigh, workload, "cpu-weight", "10000", "10000"},
		{act.Weigh, workload, "cpu-weight", "0", ""},
		{act.Weigh, workload, "io-priority", "best-effort-7", "best-effort-7"},
		{act.Weigh, workload, "io-priority", "best-effort-8", ""},
		{act.Weigh, workload, "io-priority", "idle", "idle"},
		{act.Weigh, workload, "io-priority", "real-time-0", ""},
		{act.Cap, workload, "cpu", "none", "none"},
		{act.Cap, workload, "cpu", "NaN", ""},
		{act.Cap, workload, "memory", "512 MiB", ""},
		{act.Cap, workload, "memory", "1.5g", "1610612736"},
		{act.Cap, workload, "memory", "20MB", "20000000"},
		{act.Cap, workload, "memory", "-1", ""},
		{act.Cap, workload, "memory", "0", ""},
		{act.Cap, workload, "processes", "1", "1"},
		{act.Cap, workload, "read", "vda=50MB/s", "vda=50000000"},
		{act.Cap, workload, "write", "vda=none", "vda=none"},
		{act.Cap, workload, "write", "../etc=1", ""},
		{act.Cap, workload, "write", "50MB", ""},
		{act.Place, workload, "cpus", "2-4,7", "2-4,7"},
		{act.Place, workload, "cpus", "0x1c", "2-4"},
		{act.Place, workload, "cpus", "", ""},
		{act.Place, workload, "alone", "true", ""},
		{act.Place, workload, "vcpu", "0", ""},
		{act.End, workload, "wait", "500ms", ""},
		{act.End, workload, "wait", "1m", "1m0s"},
		{act.End, workload, "wait", "61s", ""},
		{act.End, workload, "cpu", "1", ""},
		{act.Power, act.Target{Form: act.OfGPU, GPU: "0000:03:00.0"}, "watts", "220", "220"},
		{act.Power, act.Target{Form: act.OfGPU, GPU: "0000:03:00.0"}, "watts", "usual", "usual"},
		{act.Power, act.Target{Form: act.OfGPU, GPU: "0000:03:00.0"}, "watts", "0", ""},
		{act.Admit, act.Target{Form: act.OfGPU, GPU: "0000:03:00.0"}, "compute", "one-process", "one-process"},
		{act.Admit, act.Target{Form: act.OfGPU, GPU: "0000:03:00.0"}, "compute", "one-thread", ""},
		{act.Admit, act.Target{Form: act.OfGPU, GPU: "0000:03:00.0"}, "watts", "220", ""},
		{act.Message, workload, "text", "back up\x1b[2J", ""},
		{act.Message, workload, "text", "back up by noon", "back up by noon"},
		{act.Message, workload, "text", "back up\u0080", ""},
		{act.Message, workload, "text", "back\u009fup", ""},
		{act.Message, workload, "text", "back\u00a0up", "back\u00a0up"},
		{act.Message, workload, "text", " up", "up"},
	} {
		r := act.Request{Verb: x.verb, Target: x.target, Settings: map[string]string{x.name: x.given}}
		clean, err := r.Check()
		if x.want == "" {
			assert.ErrorContains(t, err, x.name, "%s %s=%q", x.verb, x.name, x.given)
			continue
		}
		require.NoError(t, err, "%s %s=%q", x.verb, x.name, x.given)
		assert.Equal(t, map[string]string{x.name: x.want}, clean.Settings)
	}
	for what, r := range map[string]act.Request{
		"an act that is none": {Verb: "reboot", Target: workload},
		"nothing to change":   {Verb: act.Weigh, Target: workload},
		"a cap of a process": {Verb: act.Cap, Target: act.Target{Form: act.OfProcess, PID: 7},
			Settings: map[string]string{"cpu": "1"}},
		"a process without one":  {Verb: act.Pause, Target: act.Target{Form: act.OfProcess}},
		"a program of nobody":    {Verb: act.End, Target: act.Target{Form: act.OfProgram, Program: "press"}},
		"a unit by a path":       {Verb: act.Start, Target: act.Target{Form: act.OfUnit, Unit: "../press.service"}},
		"a unit without suffix":  {Verb: act.Start, Target: act.Target{Form: act.OfUnit, Unit: "press"}},
		"a job that is a flag":   {Verb: act.Hold, Target: act.Target{Form: act.OfJob, Job: "--all"}},
		"a target of no form":    {Verb: act.End, Target: act.Target{}},
		"a workload without key": {Verb: act.End, Target: act.Target{Form: act.OfWorkload}},
	} {
		_, err := r.Check()
		assert.Error(t, err, what)
	}
}

func TestCheck_ATargetOfEachForm(t *testing.T) {
	for words, r := range map[string]act.Request{
		"process 7":                     {Verb: act.Pause, Target: act.Target{Form: act.OfProcess, PID: 7}},
		"process 7 and its descendants": {Verb: act.Pause, Target: act.Target{Form: act.OfFamily, PID: 7}},
		"all press of grape": {Verb: act.End,
			Target: act.Target{Form: act.OfProgram, Program: "press", User: "grape"}},
		"press.service": {Verb: act.Start, Target: act.Target{Form: act.OfUnit, Unit: "press.service"}},
		"press.service of grape": {Verb: act.Start,
			Target: act.Target{Form: act.OfUnit, Unit: "press.service", User: "grape"}},
		"job 41_2": {Verb: act.Hold, Target: act.Target{Form: act.OfJob, Job: "41_2"}},
		"act 3f7k": {Verb: act.Undo, Target: act.Target{Form: act.OfAct, Act: "3f7k"}},
	} {
		clean, err := r.Check()
		require.NoError(t, err, words)
		assert.Equal(t, words, clean.Target.String())
	}
	for _, r := range []act.Request{
		{Verb: act.End, Target: act.Target{Form: act.OfProgram, User: "grape"}},
		{Verb: act.Hold, Target: act.Target{Form: act.OfJob}},
		{Verb: act.Undo, Target: act.Target{Form: act.OfAct}},
	} {
		_, err := r.Check()
		assert.Error(t, err, "%+v", r.Target)
	}
}

func TestRegister_EverySettingIsKnownAndItsExampleIsTaken(t *testing.T) {
	for _, e := range act.Entries() {
		assert.NotEmpty(t, e.Forms, e.Verb)
		for _, name := range e.Settings {
			s, is := act.SettingOf(name)
			require.True(t, is, "%s of %s", name, e.Verb)
			given := map[string]string{name: s.Example}
			switch name {
			case "alone":
				given["cpuset"] = "1"
			case "vcpu":
				given["cpus"] = "1"
			}
			r := act.Request{
				Verb:     e.Verb,
				Settings: given,
				Target: act.Target{Form: e.Forms[0], PID: 1, Program: "p",
					User: "u", Key: "k", Unit: "u.service", Job: "1", Act: "a", GPU: "0000:03:00.0"},
			}
			_, err := r.Check()
			assert.NoError(t, err, "%s %s", e.Verb, name)
		}
	}
}

func TestOpen_OnlyWhatTheServiceSignedForThisVeryRequestIsFollowed(t *testing.T) {
	public, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	otherPublic, other, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	o := act.Order{
		ID:       "a1",
		Host:     "press-1",
		Errand:   act.ToCarry,
		Nonce:    "fresh",
		Identity: "i",
		Lives:    time.Minute,
		Request:  act.Request{Verb: act.Pause, Target: act.Target{Form: act.OfProcess, PID: 7}},
	}
	signed, err := act.Sign(key, &o)
	require.NoError(t, err)

	got, err := act.Open(public, &signed, "press-1", "fresh")
	require.NoError(t, err)
	assert.Equal(t, o, *got)
	for what, x := range map[string]struct {
		key         ed25519.PublicKey
		host, nonce string
		want        error
	}{
		"by another service":         {otherPublic, "press-1", "fresh", act.ErrForged},
		"without a key":              {nil, "press-1", "fresh", act.ErrForged},
		"for another host":           {public, "press-2", "fresh", act.ErrOther},
		"given out before":           {public, "press-1", "fresher", act.ErrStale},
		"for no request":             {public, "press-1", "", act.ErrStale},
		"for another host and stale": {public, "press-2", "fresher", act.ErrOther},
	} {
		_, err := act.Open(x.key, &signed, x.host, x.nonce)
		assert.ErrorIs(t, err, x.want, what)
	}
	rapid.Check(t, func(t *rapid.T) { // whatever bit of it is changed
		forged := act.Signed{
			Order:     append([]byte{}, signed.Order...),
			Signature: append([]byte{}, signed.Signature...),
		}
		of := forged.Order
		if rapid.Bool().Draw(t, "signature") {
			of = forged.Signature
		}
		of[rapid.IntRange(0, len(of)-1).Draw(t, "byte")] ^= 1 << rapid.IntRange(0, 7).Draw(t, "bit")
		_, err := act.Open(public, &forged, "press-1", "fresh")
		assert.ErrorIs(t, err, act.ErrForged)
	})
	bare := ed25519.Sign(key, signed.Order) // a signature of the same bytes for something else
	_, err = act.Open(public, &act.Signed{Order: signed.Order, Signature: bare}, "press-1", "fresh")
	assert.ErrorIs(t, err, act.ErrForged)
	_ = other
}

func TestCredential_HoldsTheKeyAndAnOldOneHasNone(t *testing.T) {
	public, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	whole := act.Credential("vs_0123", public)
	token, key, err := act.ParseCredential(whole)
	require.NoError(t, err)
	assert.Equal(t, "vs_0123", token)
	assert.True(t, public.Equal(key))
	token, key, err = act.ParseCredential("vs_0123")
	require.NoError(t, err)
	assert.True(t, token == "vs_0123" && key == nil)
	_, _, err = act.ParseCredential(whole[:len(whole)-1])
	assert.ErrorContains(t, err, "cut short")
}
