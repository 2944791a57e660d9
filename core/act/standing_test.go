package act_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/act"
)

func TestFirings_OneForEachStretchThatHeldWithoutAGap(t *testing.T) {
	noon := time.Date(2026, 10, 11, 12, 0, 0, 0, time.UTC)
	minutes := func(list ...int) (held []time.Time) {
		for _, m := range list {
			held = append(held, noon.Add(time.Duration(m)*time.Minute))
		}
		return held
	}
	for _, x := range []struct {
		held []int
		want []int // the minutes at whose begin it fires
	}{
		{nil, nil},
		{[]int{0, 1}, nil},
		{[]int{0, 1, 2}, []int{3}},
		{[]int{0, 1, 2, 3, 4, 5, 6}, []int{3}},
		{[]int{0, 1, 3, 4}, nil},
		{[]int{0, 1, 2, 4, 5, 6}, []int{3, 7}},
		{[]int{5, 6, 7, 20, 21, 22, 23}, []int{8, 23}},
	} {
		assert.Equal(t, minutes(x.want...), act.Firings(minutes(x.held...), 3*time.Minute), "%v", x.held)
	}
	assert.Equal(t, minutes(1, 4), act.Firings(minutes(0, 3, 4), time.Minute))
}

func TestStanding_ItsHoursMayGoOverMidnightAndAreOfItsZone(t *testing.T) {
	at := func(hour, minute int) time.Time { return time.Date(2026, 7, 1, hour, minute, 0, 0, time.UTC) }
	for _, x := range []struct {
		hours, zone string
		open, shut  []time.Time
	}{
		{"", "", []time.Time{at(0, 0), at(23, 59)}, nil},
		{"08:00-18:00", "", []time.Time{at(8, 0), at(17, 59)}, []time.Time{at(7, 59), at(18, 0)}},
		{"08:30-17:45", "", []time.Time{at(8, 30), at(17, 44)}, []time.Time{at(8, 29), at(17, 45)}},
		{"22:00-06:00", "", []time.Time{at(22, 0), at(5, 59), at(0, 0)}, []time.Time{at(6, 0), at(21, 59)}},
		{"08:00-18:00", "Europe/Vienna", []time.Time{at(6, 0), at(15, 59)}, []time.Time{at(5, 59), at(16, 0)}},
	} {
		s := act.Standing{Hours: x.hours, Zone: x.zone}
		for _, when := range x.open {
			is, err := s.Open(when)
			assert.True(t, is && err == nil, "%s %s at %s", x.hours, x.zone, when)
		}
		for _, when := range x.shut {
			is, err := s.Open(when)
			assert.True(t, !is && err == nil, "%s %s at %s", x.hours, x.zone, when)
		}
	}
}

func TestStanding_WhatMakesNoSenseIsRefused(t *testing.T) {
	sound := act.Standing{
		For:      10 * time.Minute,
		PerHour:  1,
		Verb:     act.Cap,
		Settings: map[string]string{"cpu": "2.0"},
	}
	clean, err := sound.Check()
	require.NoError(t, err)
	assert.Equal(t, "2", clean.Settings["cpu"])
	for what, change := range map[string]func(*act.Standing){
		"the shortest time": func(s *act.Standing) { s.For = act.ShortestFor },
		"the longest":       func(s *act.Standing) { s.For = act.LongestFor },
		"as often as may":   func(s *act.Standing) { s.PerHour = 100 },
		"a note":            func(s *act.Standing) { s.Verb, s.Settings = act.Note, nil },
	} {
		s := sound
		change(&s)
		_, err := s.Check()
		assert.NoError(t, err, what)
	}
	for want, change := range map[string]func(*act.Standing){
		"whole minutes":     func(s *act.Standing) { s.For = 90 * time.Second },
		"1m0s to":           func(s *act.Standing) { s.For = 0 },
		"0 acts an hour":    func(s *act.Standing) { s.PerHour = 0 },
		"08:00-18:00":       func(s *act.Standing) { s.Hours = "8-18" },
		"hours \"x-18:00\"": func(s *act.Standing) { s.Hours = "x-18:00" },
		"hours \"08:00-y\"": func(s *act.Standing) { s.Hours = "08:00-y" },
		"6h0m0s":            func(s *act.Standing) { s.For = act.LongestFor + time.Minute },
		"101 acts":          func(s *act.Standing) { s.PerHour = 101 },
		"write them as":     func(s *act.Standing) { s.Hours = "08:00-08:00" },
		"time zone":         func(s *act.Standing) { s.Hours, s.Zone = "08:00-18:00", "Cellar" },
		"at least one of":   func(s *act.Standing) { s.Settings = nil },
		"is not for a":      func(s *act.Standing) { s.Verb, s.Settings = act.Hold, nil },
		"is no act":         func(s *act.Standing) { s.Verb = "sing" },
		"note takes no":     func(s *act.Standing) { s.Verb = act.Note },
		"takes no setting":  func(s *act.Standing) { s.Settings = map[string]string{"nice": "5"} },
	} {
		s := sound
		change(&s)
		_, err := s.Check()
		assert.ErrorContains(t, err, want)
	}
}
