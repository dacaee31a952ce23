//go:build !linux

package doctor

func processes() Finding {
	return Finding{"processes", OK, "the limit is not looked at on this system", ""}
}
