package tenancy_test

import (
	"fmt"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/tenancy"
)

// The first rule that matches a workload says whose it is.
func Example() {
	var book tenancy.Book
	for tenant, expression := range []string{
		`labels['project'] == 'cellar'`,
		`kind == 'job' && owner == 'm.abt'`,
		`kind == 'job'`,
	} {
		rule, err := tenancy.Compile(int32(tenant+1), int32(tenant+1), expression)
		if err != nil {
			fmt.Println(err)
			return
		}
		book = append(book, rule)
	}
	job := tenancy.Subject{Host: "lab-1", Workload: account.Workload{Kind: amount.Job, Owner: "m.abt"}}
	fmt.Println("tenant", book.Assign(job).TenantID)
	job.Workload.Owner = "t.fink"
	fmt.Println("tenant", book.Assign(job).TenantID)
	// Output:
	// tenant 2
	// tenant 3
}
