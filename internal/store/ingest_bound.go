package store

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/wire"
)

// mostNewADay is how many workloads of one host may be new in a day. Every one of them is a row that is kept for as
// long as its sums are, and a line of listings; a host that makes more by mistake or on purpose must not harm all
// others.
const mostNewADay = 20_000

// The workload that stands for all beyond those: its figures are their sums.
const (
	beyondKey  = "beyond the most new workloads a day"
	beyondName = "workloads beyond the most that one host may have new in a day, together"
)

// bound chooses which new workloads of an interval are beyond what a host may have new in a day: those that used the
// least. Beyond tells which, by their place; nil where none is.
func (in *ingestion) bound(tx *gorm.DB, iv *wire.Interval, start time.Time) (beyond []bool, err error) {
	var fresh []int
	for i, key := range iv.GetWorkloads().GetKey() {
		if in.known[key].id == 0 && key != beyondKey {
			fresh = append(fresh, i)
		}
	}
	if len(fresh) == 0 {
		return nil, nil
	}
	var had int
	err = tx.Raw("SELECT count(*) FROM workloads WHERE host_id = $1 AND first_at > $2", in.host.ID,
		start.Add(-24*time.Hour)).Row().Scan(&had)
	if err != nil || had+len(fresh) <= in.mostNew {
		return nil, err
	}
	use := func(i int, r amount.Resource) int64 {
		if u := iv.UsageOf(r); u != nil {
			return u.Units[i]
		}
		return 0
	}
	slices.SortStableFunc(fresh, func(a, b int) int {
		return cmp.Or(cmp.Compare(use(b, amount.CPU), use(a, amount.CPU)),
			cmp.Compare(use(b, amount.Memory), use(a, amount.Memory)))
	})
	beyond = make([]bool, len(iv.Workloads.Key))
	for _, i := range fresh[max(in.mostNew-had, 0):] {
		beyond[i] = true
	}
	return beyond, nil
}

// beyond is the workload that stands for those beyond the bound.
func (in *ingestion) beyond(tx *gorm.DB, start time.Time) (known, error) {
	if err := in.recall(tx, []string{beyondKey}); err != nil {
		return known{}, err
	}
	v, err := in.keep(tx, in.known[beyondKey], account.Workload{Key: beyondKey, Kind: amount.Loose,
		Name: beyondName, UID: -1, Facts: map[string]string{account.FactWhy: fmt.Sprintf(
			"its host had more than %d new workloads in a day", in.mostNew)}}, start)
	in.known[beyondKey] = v
	return v, err
}
