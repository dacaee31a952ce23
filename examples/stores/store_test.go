package stores

import (
	"fmt"
	"os"
	"slices"
	"testing"
)

// open returns an empty store, and a function that makes changes in the mode that STORES_MODE names: one by one, or all in one
// transaction.
func open(t *testing.T) (Store, func(changes ...Change) error) {
	t.Helper()
	s, err := Open()
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Clear(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	if os.Getenv("STORES_MODE") == "batch" {
		return s, s.Batch
	}
	return s, s.Apply
}

func holds(t *testing.T, s Store, key, want string) {
	t.Helper()
	if got, err := s.Get(key); err != nil || got != want {
		t.Errorf("%s is %q, %v; want %q", key, got, err, want)
	}
}

func TestSet(t *testing.T) {
	s, change := open(t)
	if err := change(Set("plant", "bracken"), Set("plant", "polypody")); err != nil {
		t.Fatal(err)
	}
	holds(t, s, "plant", "polypody")
}

func TestMissing(t *testing.T) {
	s, _ := open(t)
	holds(t, s, "nothing", "")
}

func TestAdd(t *testing.T) {
	s, change := open(t)
	for i := range 20 {
		if err := change(Add("trays", int64(i))); err != nil {
			t.Fatal(err)
		}
	}
	holds(t, s, "trays", "190")
}

func TestKeys(t *testing.T) {
	s, change := open(t)
	for i := range 30 {
		if err := change(Set(fmt.Sprintf("bed/%02d", 29-i), "sown"), Set(fmt.Sprint("path/", i), "swept")); err != nil {
			t.Fatal(err)
		}
	}
	keys, err := s.Keys("bed/")
	if err != nil || len(keys) != 30 || !slices.IsSorted(keys) {
		t.Errorf("the keys are %q, %v", keys, err)
	}
}

func TestQuotes(t *testing.T) {
	s, change := open(t)
	if err := change(Set("label", `a 'hart’s tongue' "fern"`)); err != nil {
		t.Fatal(err)
	}
	holds(t, s, "label", `a 'hart’s tongue' "fern"`)
}

func TestClear(t *testing.T) {
	s, change := open(t)
	if err := change(Set("a", "1"), Set("b", "2")); err != nil {
		t.Fatal(err)
	}
	if err := s.Clear(); err != nil {
		t.Fatal(err)
	}
	holds(t, s, "a", "")
}

// TestAnyBytes shows a difference: a text of PostgreSQL cannot have the byte 0.
func TestAnyBytes(t *testing.T) {
	s, change := open(t)
	if err := change(Set("spores", "dust\x00dust")); err != nil {
		t.Fatal(err)
	}
	holds(t, s, "spores", "dust\x00dust")
}

// TestHalfABatch shows a difference: what a transaction of Redis did before a command failed stays done.
func TestHalfABatch(t *testing.T) {
	s, change := open(t)
	if err := s.Apply(Set("name", "fern")); err != nil {
		t.Fatal(err)
	}
	if err := change(Set("first", "done"), Add("name", 1)); err == nil {
		t.Error("a number is added to a word")
	}
	want := "done" // one by one, the first change is made
	if os.Getenv("STORES_MODE") == "batch" {
		want = ""
	}
	holds(t, s, "first", want)
}
