package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/internal/hub"
)

// Measure is one entry of the register: what the book counts, and how its figures are to be read and drawn.
type Measure struct {
	Name           string  `json:"name"`
	Title          string  `json:"title" doc:"For people."`
	Meaning        string  `json:"meaning"`
	Resource       string  `json:"resource" doc:"The resource that it belongs to; empty of a sensor."`
	Part           string  `json:"part,omitempty" doc:"Set of figures of hosts' parts: what they are of."`
	HasLedger      bool    `json:"has_ledger" doc:"It is a resource: capacity = shares + kernel + idle + residual."`
	SensorKind     string  `json:"sensor_kind,omitempty" doc:"Set of a figure of sensors: of which kind of them."`
	Unit           string  `json:"unit" doc:"Of an amount over a span."`
	MeanUnit       string  `json:"mean_unit"`
	AmountField    string  `json:"amount_field" doc:"Name of a field that holds amounts."`
	MeanField      string  `json:"mean_field" doc:"Name of a field that holds means."`
	Steps          string  `json:"steps" enum:"plain,binary,decimal,seconds,hourly" doc:"How people read large ones."`
	InBits         bool    `json:"in_bits" doc:"Its rates are held against lines: people read them in bits a second."`
	Manner         string  `json:"manner" enum:"flow,level,stall,height"`
	OverTime       string  `json:"over_time" enum:"sum,mean,highest,apart" doc:"How figures of one workload combine."`
	OverWorkloads  string  `json:"over_workloads" enum:"sum,mean,highest,apart"`
	OverHosts      string  `json:"over_hosts" enum:"sum,mean,highest,apart"`
	Bound          string  `json:"bound" enum:"none,capacity,limit" doc:"What it can be held against."`
	Form           string  `json:"form" enum:"area,line,marks" doc:"How it is best drawn over time."`
	IsTold         bool    `json:"is_told" doc:"False of a resource that no host has."`
	UnitsPerAmount float64 `json:"units_per_amount" doc:"Account units, in which intervals are sent, in one unit."`
}

func measureOf(m amount.Measure) Measure {
	e := m.Entry()
	return Measure{
		Name: e.Name, Title: e.Title, Meaning: e.Meaning, Resource: e.Of.String(), HasLedger: m.HasLedger(),
		Unit: m.Unit(), MeanUnit: m.MeanUnit(), AmountField: m.AmountField(), MeanField: m.MeanField(),
		Steps: e.Unit.Step.String(), InBits: e.InBits, Manner: e.Manner.String(),
		OverTime:      e.Manner.OverTime().String(),
		OverWorkloads: e.Manner.OverWorkloads().String(), OverHosts: e.Manner.OverHosts().String(),
		Bound: e.Bound.String(), Form: e.Form.String(), UnitsPerAmount: e.Unit.Per,
	}
}

// partMeasure is a figure of hosts' parts as it stands beside the measures.
func partMeasure(f *leaf.PartFigure) Measure {
	apart := amount.Apart.String()
	x := Measure{Name: f.Name, Title: f.Title, Meaning: f.Meaning, Part: f.Of, SensorKind: f.SensorKind,
		Unit: f.Unit.Name, MeanUnit: f.Unit.Mean,
		AmountField: f.Name, MeanField: f.Name, Steps: f.Unit.Step.String(), InBits: f.InBits,
		Manner: amount.Level.String(), OverTime: amount.Mean.String(), OverWorkloads: apart, OverHosts: apart,
		Bound: amount.Unbounded.String(), Form: amount.Line.String(), UnitsPerAmount: 1}
	switch f.Of {
	case leaf.DrivePart:
		x.Resource = amount.Disk.String()
	case leaf.InterfacePart:
		x.Resource = amount.Network.String()
	case leaf.GPUPart:
		x.Resource = amount.GPU.String()
	case leaf.CPUPart:
		x.Resource = amount.CPU.String()
	}
	if f.Most > 0 {
		x.Bound = amount.ByCapacity.String()
	}
	return x
}

type measuresOutput struct{ Body []Measure }

func registerRoutes(api huma.API, s *service) {
	huma.Register(api, huma.Operation{
		OperationID: "list-measures", Method: http.MethodGet, Path: Prefix + "/measures",
		Summary:  "The register: every measure that the book counts, the resources first, and figures of hosts' parts",
		Metadata: readers(),
	}, func(ctx context.Context, _ *struct{}) (*measuresOutput, error) {
		told, err := s.hub.Told(ctx)
		if err != nil {
			return nil, asProblem(err)
		}
		out := &measuresOutput{}
		for _, m := range amount.Measures() {
			x := measureOf(m)
			x.IsTold = told[m.Entry().Of]
			out.Body = append(out.Body, x)
		}
		for i := range leaf.PartFigures() {
			x := partMeasure(&leaf.PartFigures()[i])
			m, err := amount.Parse(x.Resource)
			x.IsTold = err != nil || told[m]
			out.Body = append(out.Body, x)
		}
		return out, nil
	})
}

// resourceName is a parameter that names a resource of the register. Answers name resources without a list of them: one
// that is added later must not break who reads them.
type resourceName string

// Schema lists the resources that the register holds.
func (resourceName) Schema(huma.Registry) *huma.Schema { return nameSchema(amount.ResourceNames()) }

// measureName is a parameter that names a measure of the register.
type measureName string

// measure is the one that is named.
func (m measureName) measure() (amount.Measure, error) {
	of, err := amount.Parse(string(m))
	if err != nil {
		return of, &hub.Problem{Class: hub.Invalid, Detail: err.Error()}
	}
	return of, nil
}

// Schema lists the measures that the register holds.
func (measureName) Schema(huma.Registry) *huma.Schema {
	return nameSchema(amount.Names(amount.Measures()))
}

func nameSchema(names []string) *huma.Schema {
	s := &huma.Schema{Type: huma.TypeString}
	for _, n := range names {
		s.Enum = append(s.Enum, n)
	}
	s.PrecomputeMessages()
	return s
}
