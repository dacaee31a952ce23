package screen

import (
	"testing"
)

// TestNamesAreShortened holds that names that share a long beginning stay different in a list, that their ends and
// the last folders of groups stay, and that nothing is wider than its room.
func TestNamesAreShortened(t *testing.T) {
	whole := func(name string) string { return name }
	long := []string{"TestTheQuickBrownIrrigatorOpensTheNorthValveAtDawn", "TestTheQuickBrownIrrigatorOpensTheSouthValveAtDawn", "TestShort",
		"TestTheQuickBrownIrrigatorOpensTheSouthValveAtNoonAndAfterwardsInTheEveningToo"}
	common := SharedIn(long, whole, 26)
	for i, want := range []string{"…TheNorthValveAtDawn", "…TheSouthValveAtDawn", "TestShort", "…TheSouthV…InTheEveningToo"} {
		if got := common.Cut(long[i], 26); got != want {
			t.Errorf("%s is shown as %s, not %s", long[i], got, want)
		}
	}
	if got := SharedIn([]string{"level_at_10", "level_at_100"}, whole, 5); got != "level_at_" {
		t.Errorf("the shared beginning of levels is %q", got)
	}
	for _, c := range []struct {
		group string
		cells int
		want  string
	}{
		{"a/path/that/goes/deeper/group03", 24, "…/goes/deeper/group03"},
		{"a/path/that/goes/deeper/group03", 40, "a/path/that/goes/deeper/group03"},
		{"a/a_very_long_folder_name_here", 12, "…/a_…me_here"},
		{"溫室/灌溉/滴水", 9, "…/滴水"},
	} {
		if got := CutGroup(c.group, c.cells); got != c.want || Width(got) > c.cells {
			t.Errorf("%s in %d cells is %q, not %q", c.group, c.cells, got, c.want)
		}
	}
	for cells := range 30 {
		for _, name := range append(long, "滴水滴水滴水滴水滴水滴水滴水滴水滴水") {
			if got := common.Cut(name, cells); Width(got) > cells {
				t.Errorf("%q takes more than %d cells", got, cells)
			}
		}
	}
}
