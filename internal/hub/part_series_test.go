package hub_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/hub"
)

// partsCellar is the cellar, whose hosts tell of their parts from 12:05 on: of cellar-1 two intervals in one minute and
// one in the next, of press-1 one in the second. Every part's figures differ by interval.
func partsCellar(t *testing.T, framed bool) *cellar {
	c := cellarTold(t, framed)
	tell := func(host string, at, seconds int64, busy, latency, operations, took, gpu int64, degrees ...float64) {
		c.dress = func(iv *account.Interval) {
			iv.Detail.Disks = []account.Disk{
				{
					Name:        "sda",
					Major:       8,
					BusyMillis:  busy,
					ReadBytes:   10 * busy,
					ReadOps:     operations,
					WriteOps:    operations,
					ReadMillis:  latency,
					WriteMillis: 3 * latency,
					QueueMillis: 4 * busy,
				},
				{Name: "sda1", Major: 8, Minor: 1, Inner: true, BusyMillis: busy, ReadBytes: 10 * busy}}
			iv.Detail.Interfaces = []account.Interface{{Name: "eth0", Received: took, Sent: 2 * took,
				ReceivedDropped: 3, SentDropped: 4, Workload: account.Unrecognised},
				{Name: "veth1", Inner: true, Received: took, Workload: account.Unrecognised}}
			iv.Detail.GPUs = []account.GPUTotal{{Name: "GPU-b", Index: 1, Micros: gpu * 1000, Told: 20_000, Units: 7e6,
				UnitsTold: 20_000}, {Name: "GPU-p", Index: 3, Card: "GPU-b"}}
			iv.Detail.CPUs = []account.CPUTimes{{CPU: 2, User: 3 * busy, System: busy, SoftIRQ: 2 * busy, IRQ: busy,
				Steal: busy, IOWait: busy, Idle: busy}}
		}
		c.parts = &account.Inventory{}
		for i, d := range degrees {
			c.parts.Sensors = append(c.parts.Sensors, account.Sensor{Chip: "board", Device: []string{"", "sda"}[i],
				Name: "inlet", Kind: account.Temperature, Value: &d})
		}
		turning := 4200.0
		c.parts.Sensors = append(c.parts.Sensors, account.Sensor{Chip: "board", Name: "front", Kind: account.Fan,
			Value: &turning}, account.Sensor{Chip: "board", Name: "silent",
			Kind: account.Temperature, Why: "no answer"})
		c.minute(host, at, seconds, had{must, 1, 100, 0, 0, 0})
		c.dress, c.parts = nil, nil
	}
	tell("cellar-1", 300, 20, 5000, 60, 10, 2000, 15_000, 20, -5)
	tell("cellar-1", 320, 40, 1000, 40, 90, 1000, 5_000, 30.5, 1)
	tell("cellar-1", 360, 60, 6600, 0, 0, 600, 10_000, 26)
	tell("press-1", 360, 60, 30_000, 90, 3, 1200, 0, 51, 40)
	return c
}

func (c *cellar) partSeries(q hub.PartSeriesQuestion, figure string) map[string][]any {
	c.t.Helper()
	q.Figure = leaf.PartFigureNamed(figure)
	require.NotNil(c.t, q.Figure, figure)
	if q.Span.From.IsZero() {
		var err error
		q.Span, err = c.Span(noon.Add(5*time.Minute), noon.Add(8*time.Minute), 0)
		require.NoError(c.t, err)
	}
	s, err := c.PartSeries(ctx, &q)
	require.NoError(c.t, err)
	assert.Equal(c.t, figure, s.Measure)
	got := map[string][]any{}
	round := func(v *float64) any {
		if v == nil {
			return nil
		}
		return float64(int64(*v*1000+map[bool]float64{true: 0.5, false: -0.5}[*v >= 0])) / 1000
	}
	for _, g := range s.Groups {
		row := []any{}
		for _, v := range g.Mean {
			row = append(row, round(v))
		}
		row = append(row, "whole", round(g.Whole))
		if s.PeakOf == "reading" {
			row = append(row, "most", round(g.Most))
		}
		got[g.Name+" of "+g.Host] = row
	}
	return got
}

func TestPartSeries_EachPartIsToldByItsOwnFigures(t *testing.T) {
	c := partsCellar(t, false)
	c.now = noon.Add(10 * time.Minute)
	minute := hub.PartSeriesQuestion{Step: "1m"}
	for figure, want := range map[string]map[string][]any{
		"drive_busy_percent": {"sda of cellar-1": {10.0, 11.0, nil, "whole", 10.5},
			"sda of press-1": {nil, 50.0, nil, "whole", 50.0}},
		"drive_read_bytes": {"sda of cellar-1": {1000.0, 1100.0, nil, "whole", 1050.0},
			"sda of press-1": {nil, 5000.0, nil, "whole", 5000.0}},
		"drive_queue": {"sda of cellar-1": {0.4, 0.44, nil, "whole", 0.42},
			"sda of press-1": {nil, 2.0, nil, "whole", 2.0}},
		// 400 ms for 200 operations; none in the second minute
		"drive_latency_ms": {"sda of cellar-1": {2.0, nil, nil, "whole", 2.0},
			"sda of press-1": {nil, 60.0, nil, "whole", 60.0}},
		"interface_sent_bytes": {"eth0 of cellar-1": {100.0, 20.0, nil, "whole", 60.0},
			"eth0 of press-1": {nil, 40.0, nil, "whole", 40.0}},
		"interface_dropped_packets": {"eth0 of cellar-1": {0.233, 0.117, nil, "whole", 0.175},
			"eth0 of press-1": {nil, 0.117, nil, "whole", 0.117}},
		// 20 s of each interval were told of it
		"gpu_busy_percent": {"GPU 1 of cellar-1": {50.0, 50.0, nil, "whole", 50.0},
			"GPU 1 of press-1": {nil, 0.0, nil, "whole", 0.0}},
		"gpu_taken_bytes": {"GPU 1 of cellar-1": {350.0, 350.0, nil, "whole", 350.0},
			"GPU 1 of press-1": {nil, 350.0, nil, "whole", 350.0}},
		"cpu_busy_percent": {"CPU 2 of cellar-1": {80.0, 80.0, nil, "whole", 80.0},
			"CPU 2 of press-1": {nil, 80.0, nil, "whole", 80.0}},
		"cpu_interrupts_percent": {"CPU 2 of cellar-1": {30.0, 30.0, nil, "whole", 30.0},
			"CPU 2 of press-1": {nil, 30.0, nil, "whole", 30.0}},
		"sensor_celsius": {"board inlet of cellar-1": {25.25, 26.0, nil, "whole", 25.5, "most", 30.5},
			"sda board inlet of cellar-1": {-2.0, nil, nil, "whole", -2.0, "most", 1.0},
			"board inlet of press-1":      {nil, 51.0, nil, "whole", 51.0, "most", 51.0},
			"sda board inlet of press-1":  {nil, 40.0, nil, "whole", 40.0, "most", 40.0}},
		"sensor_rpm": {"board front of cellar-1": {4200.0, 4200.0, nil, "whole", 4200.0, "most", 4200.0},
			"board front of press-1": {nil, 4200.0, nil, "whole", 4200.0, "most", 4200.0}},
		"sensor_volts": {},
	} {
		assert.Equal(t, want, c.partSeries(minute, figure), figure)
	}
	minute.Host, minute.Part = "cellar-1", "sda1"
	assert.Equal(t, map[string][]any{"sda1 of cellar-1": {10.0, 11.0, nil, "whole", 10.5}},
		c.partSeries(minute, "drive_busy_percent"), "what is within a drive is told where it is asked for")
	minute.Part = "veth1"
	assert.Equal(t, map[string][]any{"veth1 of cellar-1": {50.0, 10.0, nil, "whole", 30.0}},
		c.partSeries(minute, "interface_received_bytes"))
	assert.Equal(t, map[string][]any{"sda of press-1": {nil, 50.0, nil, "whole", 50.0}},
		c.partSeries(hub.PartSeriesQuestion{Step: "1m", First: 1}, "drive_busy_percent"), "the highest is told first")
}

// TestPartSeries_TheHighestTickSurvivesAnyZoom has one tick of 2 s in a week in which everything was busy, in an
// interval of a minute that was quiet otherwise.
func TestPartSeries_TheHighestTickSurvivesAnyZoom(t *testing.T) {
	c := cellarTold(t, false)
	spike := func(part int64) func(iv *account.Interval) {
		return func(iv *account.Interval) {
			tick := func(ms, part int64) *account.Interval {
				x := &account.Interval{ElapsedMillis: ms}
				x.Detail.Disks = []account.Disk{
					{Name: "sda", Major: 8, BusyMillis: ms * part / 100, ReadOps: ms * part},
				}
				x.Detail.Interfaces = []account.Interface{
					{Name: "eth0", Sent: ms * part, Workload: account.Unrecognised},
				}
				x.Detail.GPUs = []account.GPUTotal{{Name: "GPU-b", Index: 1, Micros: 10 * ms * part, Told: ms}}
				x.Detail.CPUs = []account.CPUTimes{{CPU: 2, User: ms * part, Idle: ms * (100 - part)}}
				return x.AsTick()
			}
			iv.Detail = tick(40_000, 5).Add(tick(2000, part)).Add(tick(18_000, 1)).Detail
		}
	}
	c.dress = spike(90)
	c.minute("cellar-1", 300, 60, had{must, 1, 100, 0, 0, 0})
	c.dress = spike(3)
	c.minute("cellar-1", 360, 60, had{must, 1, 100, 0, 0, 0})
	c.dress = nil
	c.now = noon.Add(3 * time.Hour)
	midnight := noon.Truncate(24 * time.Hour)
	ask := func() {
		for step, span := range map[string]question.Span{
			"1m": {From: noon.Add(5 * time.Minute), To: noon.Add(7 * time.Minute)},
			"1h": {From: noon, To: noon.Add(2 * time.Hour)},
			"1d": {From: midnight.AddDate(0, 0, -6), To: midnight.AddDate(0, 0, 1)},
		} {
			for figure, want := range map[string]float64{"drive_busy_percent": 90, "drive_reads": 90_000,
				"interface_sent_bytes": 90_000, "gpu_busy_percent": 90, "cpu_busy_percent": 90} {
				f := leaf.PartFigureNamed(figure)
				s, err := c.PartSeries(ctx, &hub.PartSeriesQuestion{Span: span, Step: step, Figure: f,
					Host: "cellar-1"})
				require.NoError(t, err)
				require.NotEmpty(t, s.Groups, figure)
				g := s.Groups[len(s.Groups)-1] // CPU 0 was busier all the time, and told of no ticks
				assert.Equal(t, "tick", s.PeakOf)
				assert.InDelta(t, want, *g.Most, 1e-6, "%s by %s", figure, step)
				if step == "1m" {
					assert.InDelta(
						t,
						want/18,
						*g.Peak[1],
						1e-6,
						"%s: the highest tick of the quiet minute",
						figure,
					)
				}
			}
		}
	}
	ask()
	require.NoError(t, c.Fold(ctx))
	ask()
}

// TestPartSeries_OfHoursIsTheSumOfItsIntervals asks for the hour once as it came and once summed.
func TestPartSeries_OfHoursIsTheSumOfItsIntervals(t *testing.T) {
	c := partsCellar(t, false)
	q := hub.PartSeriesQuestion{Step: "1h", Span: question.Span{From: noon, To: noon.Add(2 * time.Hour)}}
	c.now = noon.Add(3 * time.Hour)
	before := map[string]map[string][]any{}
	for _, f := range leaf.PartFigures() {
		before[f.Name] = c.partSeries(q, f.Name)
	}
	assert.Equal(t, map[string][]any{"sda of cellar-1": {17.75, nil, "whole", 17.75},
		"sda of press-1": {
			33.333,
			nil,
			"whole",
			33.333,
		}}, before["drive_busy_percent"], "with what was told from noon on")
	require.NoError(t, c.Fold(ctx))
	for _, f := range leaf.PartFigures() {
		assert.Equal(t, before[f.Name], c.partSeries(q, f.Name), f.Name)
	}
}

func TestPartSeries_OfLiveFramesIsThatOfTheBook(t *testing.T) {
	c := partsCellar(t, true)
	c.now = noon.Add(7 * time.Minute)
	span, err := c.FrameSpan(ctx, "cellar-1", time.Minute, 3*time.Minute)
	require.NoError(t, err)
	require.True(t, span.Frames)
	q := hub.PartSeriesQuestion{Span: span, Step: "1m", Host: "cellar-1"}
	inBook := q
	inBook.Span.Frames = false
	for _, f := range []string{"drive_busy_percent", "interface_sent_bytes", "gpu_busy_percent", "cpu_busy_percent",
		"sensor_celsius"} {
		live := c.partSeries(q, f)
		assert.NotEmpty(t, live, f)
		assert.Equal(t, c.partSeries(inBook, f), live, f)
	}
}

func TestPartSeries_WhatIsNotThereIsNamedWithWhatIs(t *testing.T) {
	c := partsCellar(t, false)
	c.now = noon.Add(10 * time.Minute)
	span, err := c.Span(noon.Add(5*time.Minute), noon.Add(8*time.Minute), 0)
	require.NoError(t, err)
	ask := func(q hub.PartSeriesQuestion) error {
		q.Span, q.Figure = span, leaf.PartFigureNamed("drive_reads")
		_, err := c.PartSeries(ctx, &q)
		return err
	}
	requireProblem(t, ask(hub.PartSeriesQuestion{Host: "press-1", Part: "sdz"}), hub.NotFound,
		"press-1 told of no drive \"sdz\" in this span: it told of sda, sda1")
	requireProblem(t, ask(hub.PartSeriesQuestion{Host: "press-9"}), hub.NotFound, "press-9")
	requireProblem(t, ask(hub.PartSeriesQuestion{Pool: "vats"}), hub.NotFound, "vats")
	requireProblem(t, ask(hub.PartSeriesQuestion{Step: "7m"}), hub.Invalid, "a step of \"7m\"")
}
