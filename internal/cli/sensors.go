package cli

import (
	"fmt"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"vinescale/core/account"
	"vinescale/internal/hub"
)

func newSensors() *cobra.Command {
	var q hub.SensorQuery
	cmd := &cobra.Command{Use: "sensors", Args: cobra.NoArgs,
		Short: "What the sensors of hosts tell: temperatures, fans, voltages, power, and how near their limits",
		Long: `Sensors lists what every sensor told last: of chips, thermal zones, drives, power
supplies, and zones whose power can be capped. The most urgent come first: those
that are broken or beyond a threshold, then those that are near one.`,
		Example: `  vinescale sensors --host press-1
  vinescale sensors --kind temperature --sort left
  vinescale sensors --state fault --as json`,
	}
	f := cmd.Flags()
	f.StringVar(&q.Host, "host", "", "one host (default: all)")
	f.StringVar(&q.Kind, "kind", "", "one kind: temperature, fan, voltage, current, power, energy, humidity, charge, …")
	f.StringVar(&q.State, "state", "", "those in one state: fault, beyond, alarm, near, unavailable, within, no limits")
	clientFlags(cmd)
	as := listFlags(cmd, 40)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		query := url.Values{}
		for name, v := range map[string]string{"host": q.Host, "kind": q.Kind, "state": q.State} {
			if v != "" {
				query.Set(name, v)
			}
		}
		var lines []hub.SensorLine
		if err := get(cmd, "/sensors", query, &lines); err != nil {
			return err
		}
		return list(cmd, as, sensorColumns, lines)
	}
	return cmd
}

// sensorText is a value of a sensor with its unit.
func sensorText(s *account.Sensor, v float64) string {
	switch {
	case s.Kind == account.Intrusion:
		return map[bool]string{true: "opened", false: "closed"}[v != 0]
	case s.Kind == account.Supply:
		return map[bool]string{true: "on", false: "off"}[v != 0]
	case s.Kind == account.Energy:
		return amountText("energy", v)
	}
	digits := 1
	if v == float64(int64(v)) {
		digits = 0
	} else if s.Kind == account.Voltage || s.Kind == account.Current {
		digits = 2
	}
	return strconv.FormatFloat(v, 'f', digits, 64) + " " + s.Unit
}

// threshold is a column of one threshold.
func threshold(name, head string, of func(*account.Sensor) *float64) column[hub.SensorLine] {
	return column[hub.SensorLine]{name: name, head: head, right: true, extra: true,
		value: func(s hub.SensorLine) any { return of(&s.Sensor) },
		text: func(s hub.SensorLine) string {
			if v := of(&s.Sensor); v != nil {
				return sensorText(&s.Sensor, *v)
			}
			return ""
		}}
}

var sensorColumns = []column[hub.SensorLine]{
	{name: "host", head: "host", value: func(s hub.SensorLine) any { return s.Host }},
	{name: "kind", head: "kind", value: func(s hub.SensorLine) any { return s.Kind }},
	{name: "chip", head: "chip", value: func(s hub.SensorLine) any { return s.Chip }},
	{name: "device", head: "of", value: func(s hub.SensorLine) any { return s.Device }},
	{name: "name", head: "sensor", value: func(s hub.SensorLine) any { return s.Name }},
	{name: "value", head: "tells", right: true, value: func(s hub.SensorLine) any { return s.Value },
		text: func(s hub.SensorLine) string {
			if s.Value == nil {
				return "–"
			}
			return sensorText(&s.Sensor, *s.Value)
		}},
	{name: "state", head: "state", value: func(s hub.SensorLine) any { return s.State }},
	{name: "left", head: "left until", value: func(s hub.SensorLine) any { return s.Left },
		text: func(s hub.SensorLine) string {
			switch {
			case s.Why != "":
				return s.Why
			case s.Left == nil:
				return s.Says
			case *s.Left < 0:
				return fmt.Sprintf("%s beyond %s", sensorText(&s.Sensor, -*s.Left), s.To)
			}
			return fmt.Sprintf("%s until %s", sensorText(&s.Sensor, *s.Left), s.To)
		}},
	{name: "unit", value: func(s hub.SensorLine) any { return s.Unit }, extra: true},
	threshold("low_critical", "low critical", func(s *account.Sensor) *float64 { return s.LowCritical }),
	threshold("low", "low", func(s *account.Sensor) *float64 { return s.Low }),
	threshold("high", "high", func(s *account.Sensor) *float64 { return s.High }),
	threshold("critical", "critical", func(s *account.Sensor) *float64 { return s.Critical }),
}
