package split

import "slices"

// regroup takes the latest machine and a few others, and searches for a way to pack their jobs that ends earlier,
// until the steps are used up.
func (d *assignment) regroup(left int) {
	if len(d.machines) < 3 {
		return
	}
	most := min(8, len(d.machines))
	for size := 3; !d.near() && d.steps > left; {
		if d.shake() {
			d.improve()
			size = 3
			continue
		}
		group := d.around(d.latest(), size)
		if found, _ := d.repack(group, d.finish-1, min(d.steps-left, regroupSteps)); found {
			d.improve()
			size = 3
			continue
		}
		if size++; size > most {
			size = 3
		}
	}
}

// shake deals the jobs of two machines that are not the latest in any other way
// that is no worse, and reports whether the latest can then be bettered with them.
func (d *assignment) shake() bool {
	group := d.around(d.latest(), 3)
	full, i, j := group[0], group[1], group[2]
	if !d.redistribute(i, j, d.finish, true) {
		return false
	}
	better := d.redistribute(full, i, d.finish, false) || d.redistribute(full, j, d.finish, false)
	d.settle()
	return better
}

// regroupSteps bounds one look at a group.
const regroupSteps = 20_000

// around chooses a machine, the one that has most room, and others at random.
func (d *assignment) around(full, size int) []int {
	group := []int{full}
	if idle := d.idlest(); idle != full {
		group = append(group, idle)
	}
	for len(group) < size {
		if at := d.random.IntN(len(d.machines)); !slices.Contains(group, at) {
			group = append(group, at)
		}
	}
	return group
}

// explore looks for any deal that ends at the floor, and then for any that ends
// sooner than the present one. Where it goes through all of them in vain, it has
// proved that there is none.
func (d *assignment) explore(steps int) {
	if len(d.lengths) > explored {
		return
	}
	all := make([]int, len(d.machines))
	for i := range all {
		all[i] = i
	}
	left := d.steps - steps
	for d.finish > d.floor+1 && d.steps > left+steps/2 {
		found, none := d.repack(all, d.floor, d.steps-left-steps/2)
		if found {
			return
		}
		if !none {
			break
		}
		d.floor++
	}
	for !d.proved() && d.steps > left {
		found, none := d.repack(all, d.finish-1, d.steps-left)
		if none {
			d.floor = d.finish
		}
		if !found {
			return
		}
		d.improve()
	}
}

// explored bounds the jobs that are searched exhaustively.
const explored = 400

// repack looks for a way to pack the jobs of some machines so that these end by
// time t. none reports that there is none, proved by going through all.
func (d *assignment) repack(group []int, t int64, steps int) (found, none bool) {
	var jobs []int
	for _, at := range group {
		jobs = append(jobs, d.members[at]...)
	}
	slices.Sort(jobs)
	p := newPacker(d, group, jobs, t, steps)
	found = p.pack()
	d.steps -= steps - p.steps + len(jobs)
	if !found {
		return false, p.steps > 0 && !p.cut
	}
	for i, at := range group {
		d.loads[at], d.members[at] = 0, d.members[at][:0]
		for _, job := range p.packed[i] {
			d.on[job] = at
			d.loads[at] += d.lengths[job]
			d.members[at] = append(d.members[at], job)
		}
	}
	d.settle()
	return true, false
}
