package pick_test

import (
	"fmt"

	"fernrelay/core/catalog"
	"fernrelay/core/pick"
)

func ExampleIndex_Pick() {
	c := catalog.New([]catalog.Test{
		{ID: "unit:drip#holds_when_dry", Suite: "unit", Group: "drip", Name: "holds_when_dry", Tags: []string{"water"}},
		{ID: "unit:drip#survives_frost", Suite: "unit", Group: "drip", Name: "survives_frost", Tags: []string{"frost", "water"}},
		{ID: "unit:vent#opens", Suite: "unit", Group: "vent", Name: "opens", Tags: []string{"heat"}},
	})
	_, held, err := pick.NewIndex(c, pick.Source{}).Pick("water not frost")
	if err != nil {
		fmt.Println(err)
		return
	}
	for i, t := range c.Tests {
		if held.Has(i) {
			fmt.Println(t.ID)
		}
	}
	// Output: unit:drip#holds_when_dry
}
