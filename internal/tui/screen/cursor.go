package screen

// Moved returns the place of a cursor in a list of n after a key.
func Moved(at int, pressed string, n int) int {
	switch pressed {
	case "up", "k":
		at--
	case "down", "j":
		at++
	case "pgup":
		at -= 10
	case "pgdown":
		at += 10
	case "home", "g":
		at = 0
	case "end", "G":
		at = n - 1
	}
	return max(0, min(at, n-1))
}

// Follow returns the first of n entries to show so that the one under the cursor is on the screen.
func Follow(top, at, shown, n int) int {
	top = min(top, at)
	top = max(top, at-shown+1)
	return max(0, min(top, n-shown))
}
