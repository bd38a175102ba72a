package order_test

import (
	"fmt"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

// What waits for nothing comes first; what waits says for whom, until when, and why.
func ExampleBuild() {
	o, err := order.Build(&stack.Stack{Services: []stack.Service{
		{Name: "counter", After: []stack.After{{Service: "ledger", Until: stack.Answering,
			Because: "declared"}}},
		{Name: "ledger", Ports: []stack.Port{{Host: 5432}}},
	}}, order.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, node := range o.Nodes {
		fmt.Println(node.Rank, node.ID)
		for _, wait := range node.After {
			fmt.Println("  waits for", wait.ID, "until", wait.Until)
		}
	}
	// Output:
	// 0 service:ledger
	// 1 service:counter
	//   waits for service:ledger until answering
}
