package account

import (
	"slices"
	"strings"
)

// Sensor is what one sensor of a host told when it was last looked at.
type Sensor struct {
	Chip   string   `json:"chip" doc:"What tells it, by its driver's name."`
	Device string   `json:"device" doc:"What that is part of, such as a drive; empty where it does not say."`
	Name   string   `json:"name"`
	Kind   string   `json:"kind" doc:"temperature, fan, voltage, current, power, energy, humidity, charge, …"`
	Unit   string   `json:"unit"`
	Value  *float64 `json:"value" doc:"Null where it cannot be read."`
	Why    string   `json:"unavailable,omitempty" doc:"Why there is no value."`

	LowCritical *float64 `json:"low_critical,omitempty"`
	Low         *float64 `json:"low,omitempty"`
	High        *float64 `json:"high,omitempty" doc:"From where on it is too high, or something is done about it."`
	Critical    *float64 `json:"critical,omitempty"`

	Says  string   `json:"says,omitempty" doc:"What it says beside its value, such as charging."`
	Fault bool     `json:"fault,omitempty" doc:"It says that it is broken."`
	Alarm bool     `json:"alarm,omitempty" doc:"It says that it raises an alarm."`
	State string   `json:"state" enum:"within,near,beyond,fault,alarm,no limits,unavailable"`
	Left  *float64 `json:"left,omitempty" doc:"Until the nearest threshold, in its unit; negative beyond it."`
	To    string   `json:"to,omitempty" enum:"low critical,low,high,critical" doc:"Which threshold that is."`
}

// FullName tells a sensor apart from the others of its host: what it is part of, its chip, and its name there.
func (s *Sensor) FullName() string {
	words := []string{}
	for _, w := range []string{s.Device, s.Chip, s.Name} {
		if w != "" && !slices.Contains(words, w) {
			words = append(words, w)
		}
	}
	return strings.Join(words, " ")
}

// The kinds of sensors.
const (
	Temperature = "temperature"
	Fan         = "fan"
	Voltage     = "voltage"
	Current     = "current"
	Power       = "power"
	Energy      = "energy"
	Humidity    = "humidity"
	Intrusion   = "intrusion"
	Clock       = "clock"
	Supply      = "supply"
	Charge      = "charge"
)

// SensorKinds are all of them.
var SensorKinds = []string{Temperature, Fan, Voltage, Current, Power, Energy, Humidity, Intrusion, Clock, Supply,
	Charge}

// The states of a sensor, the most urgent first.
const (
	SensorFault       = "fault"
	SensorBeyond      = "beyond"
	SensorAlarm       = "alarm"
	SensorNear        = "near"
	SensorUnavailable = "unavailable"
	SensorWithin      = "within"
	SensorUnlimited   = "no limits"
)

// SensorStates are all of them, in that order.
var SensorStates = []string{SensorFault, SensorBeyond, SensorAlarm, SensorNear, SensorUnavailable, SensorWithin,
	SensorUnlimited}

// nearPart is how much may be left for a value to be near a threshold: of the range between two, or else of it.
const nearPart = 0.1

// Judge says how the sensor stands to its thresholds: state, and how much is left to the nearest.
func (s *Sensor) Judge() {
	s.State, s.Left, s.To = SensorUnlimited, nil, ""
	if s.Value == nil {
		if s.State = SensorUnavailable; s.Fault {
			s.State = SensorFault
		}
		return
	}
	near, within := false, 0.0
	if s.Low != nil && s.High != nil {
		within = *s.High - *s.Low
	}
	for _, x := range []struct {
		name  string
		at    *float64
		above bool // it is to stay above this one
	}{{"low critical", s.LowCritical, true}, {"low", s.Low, true}, {"high", s.High, false},
		{"critical", s.Critical, false}} {
		if x.at == nil {
			continue
		}
		left := *x.at - *s.Value
		if x.above {
			left = -left
		}
		if s.Left == nil || left < *s.Left {
			s.Left, s.To = &left, x.name
		}
		whole := within
		if whole <= 0 {
			whole = max(*x.at, -*x.at)
		}
		near = near || left >= 0 && left < nearPart*whole
	}
	switch {
	case s.Fault:
		s.State = SensorFault
	case s.Left != nil && *s.Left < 0:
		s.State = SensorBeyond
	case s.Alarm, s.Kind == Intrusion && *s.Value != 0, s.Kind == Supply && *s.Value == 0:
		s.State = SensorAlarm
	case near:
		s.State = SensorNear
	case s.Left != nil:
		s.State = SensorWithin
	}
}
