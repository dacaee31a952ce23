// Package lazy compiles regular expressions when they are first used, so that commands that use none of them start
// sooner.
//
//	var number = lazy.Regexp(`\d+`)
//
//	number().FindString(text)
package lazy

import (
	"regexp"
	"sync"
)

// Regexp returns a function that returns the compiled expression. The function panics if the expression is wrong.
func Regexp(expression string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expression) })
}
