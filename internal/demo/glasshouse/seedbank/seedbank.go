// Package seedbank keeps count of the seed trays.
package seedbank

import (
	"fmt"
	"time"

	"fernrelay/internal/demo/glasshouse/store"
	"fernrelay/internal/demo/testhost"
)

// trays counts the trays by plant.
var trays = testhost.Variable("seedbank.trays", func() map[string]int { return map[string]int{} })

func init() {
	testhost.Test("fills_trays", "quick store", func(t *testhost.T) {
		t.Wait(260 * time.Millisecond)
		(*trays)["tree fern"] = 12
		(*trays)["staghorn"] = 8
		t.Equal("plants", len(*trays) >= 2, true)
	})
	for i, plant := range []string{"maidenhair", "bracken", "polypody", "spleenwort", "moonwort", "quillwort", "horsetail"} {
		testhost.Test("sows_"+plant, "quick", func(t *testhost.T) {
			t.Wait(time.Duration(210+40*i) * time.Millisecond)
			(*trays)[plant]++
			t.Cleanup(func() { delete(*trays, plant) })
			t.Equal("trays", (*trays)[plant], 1)
			for _, bed := range []string{"north", "south"} {
				t.Check(store.Put(plant+"/"+bed, "sown"))
				t.Cleanup(func() { store.Drop(plant + "/" + bed) })
			}
			beds, err := store.List(plant + "/")
			t.Check(err)
			t.Equal("beds", beds, []string{"north", "south"})
		})
	}
	testhost.Test("counts_trays", "store", func(t *testhost.T) {
		t.Wait(420 * time.Millisecond)
		t.Equal("trays of tree fern", (*trays)["tree fern"], 12)
	})
	testhost.Test("weighs_on_the_bus", "bus", func(t *testhost.T) {
		t.Wait(380 * time.Millisecond)
		t.Equal("grams", fmt.Sprintf("%.1f", 12*3.5), "42.0")
	})
	testhost.Test("inventory_full", "nightly", func(t *testhost.T) {
		for _, room := range []string{"cold", "dry", "dark"} {
			t.Step(room, func() { t.Wait(900 * time.Millisecond) })
		}
	})
	for i := range 8 {
		testhost.Test(fmt.Sprintf("drawer_%d_is_dry", i+1), "", func(t *testhost.T) {
			t.Wait(time.Duration(190+25*i) * time.Millisecond)
			t.Equal("humidity below 15", 8+i%3 < 15, true)
		})
	}
}
