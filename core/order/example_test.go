package order_test

import (
	"fmt"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
)

func ExampleOrder_Apply() {
	reverse, err := order.Named(order.Backwards, 0)
	if err != nil {
		fmt.Println(err)
		return
	}
	tests, err := reverse.Apply([]catalog.Test{
		{ID: "unit:drip#first", Suite: "unit", Group: "drip", Name: "first"},
		{ID: "unit:drip#second", Suite: "unit", Group: "drip", Name: "second"},
	})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, t := range tests {
		fmt.Println(t.Name)
	}
	// Output:
	// second
	// first
}
