package statement_test

import (
	"encoding/json"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/shopspring/decimal"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/amount"
	"vinescale/core/statement"
)

// The rules of the FinOps Open Cost and Usage Specification for columns of its cost and usage dataset, as far as a row
// can be held against them by itself.
var (
	focusMandatory = []string{
		"BilledCost",
		"BillingAccountId",
		"BillingCurrency",
		"BillingPeriodEnd",
		"BillingPeriodStart",
		"ChargeCategory",
		"ChargePeriodEnd",
		"ChargePeriodStart",
		"ContractedCost",
		"EffectiveCost",
		"InvoiceIssuerName",
		"ListCost",
		"ProviderName",
		"PublisherName",
		"ServiceCategory",
		"ServiceName",
		"ServiceSubcategory",
	}
	focusTimes = []string{"BillingPeriodEnd", "BillingPeriodStart", "ChargePeriodEnd", "ChargePeriodStart"}
	focusSets  = map[string][]string{
		"ChargeCategory": {"Usage", "Purchase", "Tax", "Credit", "Adjustment"}, "ChargeClass": {"", "Correction"},
		"ChargeFrequency":           {"One-Time", "Recurring", "Usage-Based"},
		"PricingCategory":           {"", "Standard", "Dynamic", "Committed", "Other"},
		"ServiceCategory":           {"Compute", "Storage", "Networking"},
		"CapacityReservationStatus": {""}, "CommitmentDiscountStatus": {""}, "CommitmentDiscountCategory": {""},
		"ServiceSubcategory": {
			"Containers",
			"Virtual Machines",
			"Other (Compute)",
			"Other (Storage)",
			"Other (Networking)",
		},
	}
	focusTime     = regexp.MustCompile(`^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ$`)
	focusNumber   = regexp.MustCompile(`^-?\d+(\.\d+)?$`)
	focusCurrency = regexp.MustCompile(`^[A-Z]{3}$`)
)

// holdFocus holds a row against the rules.
func holdFocus(t *testing.T, row map[string]string) {
	for _, column := range focusMandatory {
		assert.NotEmpty(t, row[column], "%s must not be null", column)
	}
	for _, column := range focusTimes {
		assert.Regexp(t, focusTime, row[column], column)
	}
	assert.Less(t, row["ChargePeriodStart"], row["ChargePeriodEnd"])
	assert.LessOrEqual(t, row["BillingPeriodStart"], row["ChargePeriodStart"])
	for column, allowed := range focusSets {
		assert.Contains(t, allowed, row[column], column)
	}
	assert.Regexp(t, focusCurrency, row["BillingCurrency"])
	for column, value := range row {
		isNumber := strings.HasSuffix(column, "Cost") || strings.HasSuffix(column, "Quantity") ||
			strings.HasSuffix(column, "UnitPrice")
		if isNumber && value != "" {
			assert.Regexp(t, focusNumber, value, column)
		}
	}
	n := func(column string) decimal.Decimal { return decimal.RequireFromString(row[column]) }
	if row["PricingQuantity"] != "" {
		for _, of := range []string{"List", "Contracted"} {
			cost, price := of+"Cost", of+"UnitPrice"
			assert.True(
				t,
				n(cost).Equal(n(price).Mul(n("PricingQuantity"))),
				"%s is its unit price times the quantity",
				cost,
			)
		}
		assert.NotEmpty(t, row["PricingUnit"])
		assert.NotEmpty(t, row["SkuPriceId"], "usage has a price")
	} else {
		assert.Empty(t, row["PricingUnit"]+row["ListUnitPrice"]+row["ConsumedQuantity"]+row["PricingCategory"])
	}
	assert.Equal(t, row["ConsumedQuantity"] == "", row["ConsumedUnit"] == "")
	if row["ChargeCategory"] != "Usage" {
		assert.Empty(t, row["ConsumedQuantity"], "only usage is consumed")
	}
	assert.Equal(t, row["ResourceId"] == "", row["ResourceType"] == "")
	assert.Equal(t, row["SubAccountId"] == "", row["SubAccountType"] == "")
	var tags map[string]string
	assert.NoError(t, json.Unmarshal([]byte(row["Tags"]), &tags), "tags are a JSON object")
}

func TestFocus_FollowsTheRulesOfTheSpecification(t *testing.T) {
	x := tariff(t, statement.ByUse, price("cpu", "0.0213", "2026-01-01", ""), price("disk", "0.5", "2026-01-01", ""))
	x.Label = "site"
	g := twoHosts(x)
	g.Stretches[0].Uses[0].Label = "north"
	for i := range g.Stretches[0].Uses { // awkward parts
		g.Stretches[0].Uses[i].Of[amount.CPU].Units.Add(int64(i) + 1)
		g.Stretches[0].Uses[i].Of[amount.Network] = statement.Amount{Units: wide(123_456_789), IsKnown: true}
	}
	a := statement.Draw(g)
	cost := decimal.RequireFromString("-3.5")
	a.Correct(
		nil,
		[]statement.Correction{{Corrects: 1, Tenant: "Leaf Vision", Resource: "disk", Cost: &cost, Reason: "late"}},
	)
	seen := map[string]bool{}
	billed := decimal.Zero
	for i := range a.Statements {
		s := &a.Statements[i]
		if i == 0 {
			s.Seal(1, november, "x", "")
		}
		rows, err := s.Focus("the cooperative")
		require.NoError(t, err)
		require.Len(t, rows, len(s.Lines))
		for _, values := range rows {
			row := map[string]string{}
			for k, column := range statement.FocusColumns {
				row[column] = values[k]
			}
			holdFocus(t, row)
			billed = billed.Add(decimal.RequireFromString(row["BilledCost"]))
			seen[row["ChargeCategory"]+row["ChargeClass"]], seen[row["ServiceSubcategory"]] = true, true
			seen[row["Tags"]], seen[row["ChargeDescription"]] = true, true
		}
	}
	sum := decimal.Zero
	for _, s := range a.Statements {
		sum = sum.Add(s.Cost)
	}
	assert.True(t, sum.Equal(billed), "what is billed is what the statements come to")
	for _, want := range []string{"Usage", "AdjustmentCorrection", "Containers", "Other (Compute)",
		"Other (Networking)", `{"kind":"job","site":"north","what":"used"}`,
		"CPU used on press-1 by m.ahlers", "Disk corrected: late"} {
		assert.True(t, seen[want], want)
	}
	assert.True(t, slices.IsSorted(statement.FocusColumns))
	assert.Len(t, statement.FocusColumns, 57, "all columns of the version")
	rows, err := a.Statements[0].Focus("x")
	require.NoError(t, err)
	assert.Equal(t, "1", rows[0][slices.Index(statement.FocusColumns, "InvoiceId")])

	none := statement.Statement{Tenant: "Leaf Vision", Window: "2026-10"}
	_, err = none.Focus("x")
	require.ErrorContains(t, err, "has no currency: set one by a tariff")
}
