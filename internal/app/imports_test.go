package app

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"fernrelay/internal/testfiles"
)

// TestImportIsInterrupted ends an import in its middle and imports again: nothing is lost or twice.
func TestImportIsInterrupted(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"echo a\"\nrun = \"true {name}\"\n"})
	for n := range 60 {
		testfiles.Write(t, dir, map[string]string{fmt.Sprintf("ci/%d.xml", n): fmt.Sprintf("<testsuite name=\"c:.\" timestamp=\"2026-10-01T10:%02d:00\"><testcase name=\"a\" time=\"%d\"/></testsuite>", n, n)})
	}
	r, err := Open(t.Context(), dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	ctx, cancel := context.WithCancel(t.Context())
	done, err := r.Import(ctx, []string{filepath.Join(dir, "ci")}, func(done, _ int) {
		if done == 30 {
			cancel()
		}
	})
	first, _ := r.Ledger().List()
	if !errors.Is(err, context.Canceled) || len(first) != done.Runs || len(first) < 29 || len(first) == 60 {
		t.Fatalf("%d runs are kept, %+v are reported, %v", len(first), done, err)
	}
	if _, err := r.Import(t.Context(), []string{filepath.Join(dir, "ci")}, func(int, int) {}); err != nil {
		t.Fatal(err)
	}
	all, err := r.Ledger().List()
	if err != nil || len(all) != 60 || all[59].Began.Minute() != 59 {
		t.Errorf("%d runs are kept in the end, %v", len(all), err)
	}
}

// BenchmarkImport imports 1,000 files of 1,000 cases, of the same tests and of different ones. It
// reports the most memory that the process ever had.
func BenchmarkImport(b *testing.B) {
	for _, kind := range []string{"same", "different"} {
		b.Run(kind, func(b *testing.B) {
			reports := b.TempDir()
			for f := range 1000 {
				var text strings.Builder
				fmt.Fprintf(&text, "<testsuite name=\"beds\" timestamp=\"2026-%02d-%02dT10:00:00\">\n", 1+f/28%12, 1+f%28)
				for c := range 1000 {
					name := c
					if kind == "different" {
						name += 1000 * f
					}
					fmt.Fprintf(&text, "<testcase classname=\"house.Bed%d\" name=\"test_%d\" time=\"%d.%03d\">", name/50, name, c%3, (f+c)%1000)
					if c%97 == 5 {
						text.WriteString("<failure message=\"the bed is dry\">AssertionError: the bed is dry\n  at bed.py:31</failure>")
					}
					text.WriteString("</testcase>\n")
				}
				text.WriteString("</testsuite>\n")
				testfiles.Write(b, reports, map[string]string{fmt.Sprintf("%04d.xml", f): text.String()})
			}
			for b.Loop() {
				dir := b.TempDir()
				testfiles.Write(b, dir, map[string]string{"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"echo a\"\nrun = \"true {name}\"\n"})
				r, err := Open(context.Background(), dir, nil)
				if err != nil {
					b.Fatal(err)
				}
				done, err := r.Import(context.Background(), []string{filepath.Join(reports, "*.xml")}, func(int, int) {})
				if err != nil || done.Tests != 1_000_000 || len(done.Broken) > 0 {
					b.Fatalf("%+v, %v", done, err)
				}
				_ = r.Close()
			}
			var usage syscall.Rusage
			if err := syscall.Getrusage(syscall.RUSAGE_SELF, &usage); err != nil {
				b.Fatal(err)
			}
			b.ReportMetric(float64(usage.Maxrss)/1000, "MB")
		})
	}
}
