// Package pumps moves water through a greenhouse. Its tests have an order in which one of them fails.
package pumps

// Limit is the most litres a minute that a pump may move.
var Limit = 40

// Flow returns the litres a minute that a number of pumps move, each as much as asked for and allowed.
func Flow(pumps, each int) int { return pumps * min(each, Limit) }
