package statement

import (
	"encoding/json"
	"fmt"
	"time"

	"vinescale/core/amount"
)

// FocusVersion is the version of the FinOps Open Cost and Usage Specification (FOCUS) that Focus writes.
const FocusVersion = "1.2"

// FocusColumns are the columns of that specification's cost and usage dataset, in the order in which Focus has them.
var FocusColumns = []string{
	"AvailabilityZone", "BilledCost", "BillingAccountId", "BillingAccountName", "BillingAccountType",
	"BillingCurrency", "BillingPeriodEnd", "BillingPeriodStart", "CapacityReservationId", "CapacityReservationStatus",
	"ChargeCategory", "ChargeClass", "ChargeDescription", "ChargeFrequency", "ChargePeriodEnd", "ChargePeriodStart",
	"CommitmentDiscountCategory", "CommitmentDiscountId", "CommitmentDiscountName", "CommitmentDiscountQuantity",
	"CommitmentDiscountStatus", "CommitmentDiscountType", "CommitmentDiscountUnit", "ConsumedQuantity",
	"ConsumedUnit", "ContractedCost", "ContractedUnitPrice", "EffectiveCost", "InvoiceId", "InvoiceIssuerName",
	"ListCost", "ListUnitPrice", "PricingCategory", "PricingCurrency", "PricingCurrencyContractedUnitPrice",
	"PricingCurrencyEffectiveCost", "PricingCurrencyListUnitPrice", "PricingQuantity", "PricingUnit", "ProviderName",
	"PublisherName", "RegionId", "RegionName", "ResourceId", "ResourceName", "ResourceType", "ServiceCategory",
	"ServiceName", "ServiceSubcategory", "SkuId", "SkuMeter", "SkuPriceDetails", "SkuPriceId", "SubAccountId",
	"SubAccountName", "SubAccountType", "Tags",
}

// focusNull is how that specification writes a value that is not there, in text.
const focusNull = ""

// focusUnits are the priced units as its rules for units write them.
var focusUnits = map[string]string{"core_hours": "Core-Hours", "gb_hours": "GB-Hours", "tb": "TB",
	"gpu_hours": "GPU-Hours", "kwh": "kWh"}

// Focus is a statement in the columns of that specification: a row a line. Provider is who runs the hosts. A statement
// without a currency cannot be written so.
func (s *Statement) Focus(provider string) ([][]string, error) {
	if s.Currency == "" {
		return nil, fmt.Errorf("the statement of %s for %s has no currency: set one by a tariff", s.Tenant, s.Window)
	}
	rows := make([][]string, 0, len(s.Lines))
	for i := range s.Lines {
		of := s.focusLine(&s.Lines[i], provider)
		row := make([]string, len(FocusColumns))
		for k, column := range FocusColumns {
			row[k] = of[column]
		}
		rows = append(rows, row)
	}
	return rows, nil
}

// Focus is all statements of an account in the columns of that specification, with a row of their names first.
func (a *Account) Focus(provider string) ([][]string, error) {
	all := [][]string{FocusColumns}
	for i := range a.Statements {
		rows, err := a.Statements[i].Focus(provider)
		if err != nil {
			return nil, err
		}
		all = append(all, rows...)
	}
	return all, nil
}

func (s *Statement) focusLine(l *Line, provider string) map[string]string {
	at := func(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05Z") }
	cost := l.Cost.String()
	invoice := focusNull
	if s.Number != 0 {
		invoice = fmt.Sprint(s.Number)
	}
	of := map[string]string{
		"BilledCost": cost, "BillingAccountId": s.Tenant, "BillingAccountName": s.Tenant,
		"BillingAccountType": "Tenant",
		"BillingCurrency":    s.Currency, "BillingPeriodStart": at(s.From), "BillingPeriodEnd": at(s.To),
		"ChargeCategory": "Usage", "ChargeDescription": l.describe(), "ChargeFrequency": "Usage-Based",
		"ChargePeriodStart": at(l.From), "ChargePeriodEnd": at(l.To), "ContractedCost": cost, "EffectiveCost": cost,
		"InvoiceId": invoice, "InvoiceIssuerName": provider, "ListCost": cost, "ProviderName": provider,
		"PublisherName": provider, "ResourceId": l.Host, "ResourceName": l.Host, "ServiceName": l.title(),
		"SubAccountId": l.Owner, "SubAccountName": l.Owner,
	}
	if l.Host != "" {
		of["ResourceType"] = "Host"
	}
	if l.Owner != "" {
		of["SubAccountType"] = "User"
	}
	of["ServiceCategory"], of["ServiceSubcategory"] = l.service()
	if l.Corrects != 0 {
		of["ChargeClass"] = "Correction"
	}
	if l.What == Manual {
		of["ChargeCategory"], of["ChargeFrequency"] = "Adjustment", "One-Time"
	} else {
		unit, price := focusUnits[l.Unit], "0"
		if l.Price != nil {
			price = l.Price.String()
		}
		quantity := l.Quantity.String()
		of["ConsumedQuantity"], of["ConsumedUnit"] = quantity, unit
		of["PricingQuantity"], of["PricingUnit"], of["PricingCategory"] = quantity, unit, "Standard"
		of["ListUnitPrice"], of["ContractedUnitPrice"] = price, price
		of["PricingCurrency"], of["PricingCurrencyEffectiveCost"] = s.Currency, cost
		of["PricingCurrencyListUnitPrice"], of["PricingCurrencyContractedUnitPrice"] = price, price
		of["SkuId"], of["SkuMeter"], of["SkuPriceId"] = l.Resource, l.title(), l.Resource+" at "+price
	}
	tags := map[string]string{}
	for key, value := range map[string]string{"kind": l.Kind, "pools": l.Pools, "what": string(l.What)} {
		if value != "" {
			tags[key] = value
		}
	}
	if l.Label != "" {
		tags[s.LabelKey] = l.Label
	}
	text, _ := json.Marshal(tags) // of strings
	of["Tags"] = string(text)
	return of
}

// title is what a line's resource is called.
func (l *Line) title() string {
	r, err := amount.ParseResource(l.Resource)
	if err != nil {
		return l.Resource
	}
	return r.Entry().Title
}

// service is where that specification counts a resource, by its closed list of categories.
func (l *Line) service() (category, sub string) {
	switch l.Resource {
	case amount.Disk.String():
		return "Storage", "Other (Storage)"
	case amount.Network.String():
		return "Networking", "Other (Networking)"
	}
	switch l.Kind {
	case amount.Container.String():
		return "Compute", "Containers"
	case amount.VM.String():
		return "Compute", "Virtual Machines"
	}
	return "Compute", "Other (Compute)"
}

// describe is a line in words.
func (l *Line) describe() string {
	what := map[What]string{Used: "used", Kernel: "part of what the kernel used", Idle: "part of what stood idle",
		Steal: "taken by the hypervisor", Residual: "used, and nobody's share", Manual: "corrected"}[l.What]
	text := l.title() + " " + what
	if l.Host != "" {
		text += " on " + l.Host
	}
	if l.Owner != "" {
		text += " by " + l.Owner
	}
	if l.Reason != "" {
		text += ": " + l.Reason
	}
	return text
}
