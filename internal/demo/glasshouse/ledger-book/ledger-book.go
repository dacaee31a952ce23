// Package ledgerbook sums up what the glasshouse costs.
package ledgerbook

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"fernrelay/internal/demo/testhost"
)

// lockName is the file that says that an export is under way.
const lockName = "export.lock"

// sum adds amounts in pence.
func sum(amounts ...int) int {
	total := 0
	for _, a := range amounts {
		total += a
	}
	return total
}

// export begins an export; it must be ended before the next.
func export(folder, what string) error {
	file, err := os.OpenFile(filepath.Join(folder, lockName), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return errors.New("another export is under way")
	}
	if err != nil {
		return err
	}
	_, err = file.WriteString(what)
	return errors.Join(err, file.Close())
}

func init() {
	testhost.Test("exports_the_year", "store", func(t *testhost.T) {
		t.Wait(480 * time.Millisecond)
		if err := export(t.Temp(), "the year"); err != nil {
			t.Fatalf("the year: %v", err)
		}
	})
	for i := range 9 {
		testhost.Test(fmt.Sprintf("page_%d_balances", i+1), "quick", func(t *testhost.T) {
			t.Wait(time.Duration(150+(i*67)%210) * time.Millisecond)
			t.Equal("sum", sum(i, -i, 100), 100)
		})
	}
	testhost.Test("sums_by_quarter", "", func(t *testhost.T) {
		t.Wait(1100 * time.Millisecond)
		if err := export(t.Temp(), "the quarter"); err != nil {
			t.Fatalf("the quarter: %v", err)
		}
		t.Cleanup(func() { _ = os.Remove(filepath.Join(t.Temp(), lockName)) })
		t.Equal("sum", sum(250, 250, 250, 250), 1000)
	})
	testhost.Test("closes_at_midnight", "clock", func(t *testhost.T) {
		t.Wait(290 * time.Millisecond)
		t.Equal("sum", sum(), 0)
	})
	for i := range 4 {
		testhost.Test(fmt.Sprintf("tax_of_quarter_%d", i+1), "", func(t *testhost.T) {
			t.Wait(time.Duration(310+60*i) * time.Millisecond)
			t.Equal("tax", sum(1000*(i+1))/5, 200*(i+1))
		})
	}
}
