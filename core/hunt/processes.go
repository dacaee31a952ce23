package hunt

import (
	"cmp"
	"slices"
)

// start is the time that a process takes to start, in seconds: what the first trial of the victim alone took beyond the victim.
func (h *Hunt) start() float64 {
	return max(0, h.records[0].Seconds-h.task.Seconds[h.task.Victim])
}

// seconds is what tests take together, with the starts of the processes that the victim is not in.
func (q *quest) seconds(tests []string) float64 {
	sum := 0.0
	started := map[string]bool{q.process(q.h.task.Victim): true}
	for _, id := range tests {
		sum += q.h.task.Seconds[id]
		if process := q.process(id); !started[process] {
			started[process] = true
			sum += q.h.start()
		}
	}
	return sum
}

func (q *quest) process(id string) string { return q.h.task.Process[id] }

// leastSeconds is what a test is counted to take at least, in seconds, as beginning it costs something, too.
const leastSeconds = 0.001

// block is tests that follow each other in a ranking.
type block struct {
	tests   []string
	weight  float64 // the suspicion that they hold
	seconds float64 // that they take
}

// rank sorts tests so that the first of them hold the most suspicion in the least time; of those alike the one that ran
// later goes first. The first tests of a process also take its start: those of them that together hold the most per second
// stay together, so that a cut leaves whole processes out (Horn, "Single-Machine Job Sequencing with Treelike Precedence
// Ordering and Linear Delay Penalties", 1972).
func (q *quest) rank(tests []string) []string {
	byProcess := map[string][]block{}
	for i, id := range tests {
		byProcess[q.process(id)] = append(byProcess[q.process(id)], block{tests[i : i+1], q.weights[id], max(leastSeconds, q.h.task.Seconds[id])})
	}
	victims := q.process(q.h.task.Victim)
	all := make([]block, 0, len(tests))
	for process, blocks := range byProcess {
		slices.SortFunc(blocks, q.compare)
		if process != victims {
			blocks = mergeHead(blocks, q.h.start())
		}
		all = append(all, blocks...)
	}
	slices.SortFunc(all, q.compare)
	ranked := make([]string, 0, len(tests))
	for _, b := range all {
		ranked = append(ranked, b.tests...)
	}
	return ranked
}

// compare sorts the block with the most suspicion per second first.
func (q *quest) compare(a, b block) int {
	return cmp.Or(cmp.Compare(b.weight/b.seconds, a.weight/a.seconds), q.place[b.tests[0]]-q.place[a.tests[0]])
}

// mergeHead makes one block of the first blocks: those that hold the most suspicion per second together with what it takes before
// the first of them.
func mergeHead(blocks []block, before float64) []block {
	head := block{seconds: before}
	n := 0
	for n < len(blocks) && (n == 0 || blocks[n].weight/blocks[n].seconds > head.weight/head.seconds) {
		head.tests = append(head.tests, blocks[n].tests...)
		head.weight, head.seconds = head.weight+blocks[n].weight, head.seconds+blocks[n].seconds
		n++
	}
	return append([]block{head}, blocks[n:]...)
}
