package stage

import (
	"github.com/shopspring/decimal"

	"vinescale/core/statement"
)

// Tariff of the cooperative: by the day, so that a week of history has several windows. What stands idle is nobody's.
func Tariff() statement.Tariff {
	price := func(of, price string) statement.Price {
		return statement.Price{Of: of, Price: decimal.RequireFromString(price), From: "2026-01-01"}
	}
	return statement.Tariff{
		Window:   "day",
		Zone:     "Europe/Vienna",
		Currency: "EUR",
		Split:    statement.ByUse,
		KeepIdle: true,
		Prices: []statement.Price{price("cpu", "0.021"), price("memory", "0.0031"), price("disk", "0.45"),
			price("gpu", "0.80"), price("energy", "0.28")},
	}
}
