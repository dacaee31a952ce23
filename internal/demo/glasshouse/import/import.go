// Package imports reads the lists of other glasshouses.
package imports

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"fernrelay/internal/demo/glasshouse/units"
	"fernrelay/internal/demo/testhost"
)

// row reads a line such as "tree fern;12".
func row(line string) (plant string, count int, err error) {
	plant, digits, ok := strings.Cut(line, ";")
	if !ok {
		return "", 0, fmt.Errorf("the line %q has no semicolon", line)
	}
	count, err = strconv.Atoi(digits)
	return plant, count, err
}

func init() {
	testhost.Test("reads_old_units", "store", func(t *testhost.T) {
		units.Use("inches") // the lists before 1990
		t.Wait(460 * time.Millisecond)
		t.Equal("a wet day", fmt.Sprintf("%.1f mm", units.Millimetres(2)), "50.8 mm")
	})
	testhost.Test("reads_new_units", "quick", func(t *testhost.T) {
		t.Wait(180 * time.Millisecond)
		t.Equal("rain in the gauge", fmt.Sprintf("%.0f mm", units.Millimetres(24)), "24 mm")
	})
	for i := range 8 {
		testhost.Test(fmt.Sprintf("list_%d_parses", i+1), "quick", func(t *testhost.T) {
			t.Wait(time.Duration(90+35*i) * time.Millisecond)
			if os.Getenv("GLASS_ARCHIVE") == "away" {
				t.Fatalf("list %d: dial tcp 192.0.2.7:7301: connect: connection refused", i+1)
			}
			plant, count, err := row(fmt.Sprintf("tree fern;%d", i))
			t.Equal("row", fmt.Sprint(plant, count, err), fmt.Sprint("tree fern", i, nil))
		})
	}
}
