// Package subsets lists what the subsets of a few lengths sum to, in order.
//
//	for _, s := range subsets.Of([]int64{3, 5, 4}, []int{0, 1}) {
//		fmt.Println(s.Sum) // 0, 3, 5, 8
//	}
package subsets

// Subset is some of a few items, at most 32.
type Subset struct {
	Sum int64  // of their lengths
	Set uint32 // a bit an item, by its place among the items
}

// Of returns all subsets of items, which are places in lengths, the least sum first (Horowitz and Sahni, "Computing partitions with
// applications to the knapsack problem", 1974).
//
// Each item doubles the list: the sums without it and those with it are two sorted lists, which are merged. Lengths of 3 and 5 make
// 0, then 0 3, then 0 3 5 8.
func Of(lengths []int64, items []int) []Subset {
	all := make([]Subset, 1, 1<<len(items))
	with := make([]Subset, 0, 1<<len(items))
	for bit, item := range items {
		with = with[:0]
		length := lengths[item]
		without := all
		x := 0
		for _, s := range all {
			s = Subset{s.Sum + length, s.Set | 1<<bit}
			for x < len(without) && without[x].Sum <= s.Sum {
				with = append(with, without[x])
				x++
			}
			with = append(with, s)
		}
		with = append(with, without[x:]...)
		all, with = with, all
	}
	return all
}
