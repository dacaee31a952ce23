package cause

import (
	"slices"
	"strings"

	"fernrelay/core/lazy"
)

// programFunction is the function of the outermost frame of a program: what it runs first.
var programFunction = lazy.Regexp(`^(?:<module>|main|(?:.*[.:])?main|Object\.<anonymous>|__main__)$`)

// trimOutward leaves the frames from the test inward. What is outward called the test, and says nothing of why it fails:
//
//	beds.py:41 fill()          counts
//	beds.py:12 test_fills()    the test's own
//	runner.py:20 <module>()    the program that ran it
//
// Without a frame of the test, those of the file that the program begins in are left out, and what all failures of a suite have
// outermost, if some go deeper.
func trimOutward(all []failing) {
	suites := map[string][]*failing{}
	for i := range all {
		f := &all[i]
		if n := f.ownFrame(); n >= 0 {
			f.frames = f.frames[:n+1]
			continue
		}
		suite, _, _ := strings.Cut(f.result.ID, ":")
		suites[suite] = append(suites[suite], f)
	}
	for _, failures := range suites {
		failures = slices.DeleteFunc(failures, func(f *failing) bool { return len(f.frames) == 0 })
		common, deeper := commonOutermost(failures)
		for _, f := range failures {
			if deeper && len(failures) > 1 {
				f.frames = f.frames[:len(f.frames)-common]
			}
			f.leaveProgram()
		}
	}
	for i := range all {
		all[i].findOrigin()
	}
}

// ownFrame returns the index of the outermost frame of the test itself, or of a test file; -1 if there is none.
func (f *failing) ownFrame() int {
	for i, frame := range slices.Backward(f.frames) {
		if frame.inTest() || f.isOwn(frame) {
			return i
		}
	}
	return -1
}

// isOwn reports whether a frame is in the function of the test.
func (f *failing) isOwn(frame Frame) bool {
	_, name, _ := strings.Cut(f.result.ID, "#")
	return frame.Function != "" && lastWord(frame.Function) == lastWord(name)
}

// lastWord is the last part of a name of several.
func lastWord(name string) string {
	return name[strings.LastIndexAny(name, ".:/# ")+1:]
}

// leaveProgram removes the frames of the file that the program begins in.
func (f *failing) leaveProgram() {
	if len(f.frames) == 0 {
		return
	}
	if last := f.frames[len(f.frames)-1]; programFunction().MatchString(last.Function) {
		f.frames = slices.DeleteFunc(slices.Clone(f.frames), func(other Frame) bool { return other.File == last.File })
	}
}

// commonOutermost counts the outermost frames that all failures share, and reports whether any goes deeper.
func commonOutermost(failures []*failing) (common int, deeper bool) {
	for n := 0; len(failures) > 0; n++ {
		for _, f := range failures {
			if n >= len(f.frames) || f.frames[len(f.frames)-1-n] != failures[0].frames[len(failures[0].frames)-1-n] {
				return n, slices.ContainsFunc(failures, func(f *failing) bool { return len(f.frames) > n })
			}
		}
	}
	return 0, false
}

// findOrigin finds the deepest frame that is not the test's own line.
func (f *failing) findOrigin() {
	if at := slices.IndexFunc(f.frames, func(frame Frame) bool { return !frame.inTest() && !f.isOwn(frame) }); at >= 0 {
		f.origin = f.frames[at]
	}
}
