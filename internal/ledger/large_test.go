package ledger_test

import (
	"testing"

	"fernrelay/internal/ledger"
	"fernrelay/internal/ledger/ledgertest"
)

// BenchmarkHistory opens a ledger of 1,000 runs of 20,000 tests and works out what its latest
// 100 runs say. Making the ledger takes a few minutes.
func BenchmarkHistory(b *testing.B) {
	dir := b.TempDir()
	l, err := ledger.Open(dir)
	if err != nil {
		b.Fatal(err)
	}
	if err := ledgertest.Fill(l, ledgertest.IDs(20_000), 1000); err != nil {
		b.Fatal(err)
	}
	size, err := l.Size()
	if err != nil {
		b.Fatal(err)
	}
	_ = l.Close()
	for b.Loop() {
		l, err := ledger.Open(dir)
		if err != nil {
			b.Fatal(err)
		}
		_, h, err := l.History(100, nil)
		if err != nil {
			b.Fatal(err)
		}
		h.Figures()
		_ = l.Close()
	}
	b.ReportMetric(float64(size.Bytes)/1e6, "MB")
}
