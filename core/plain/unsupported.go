//go:build !unix

package plain

// Fern Relay runs tests in process groups and follows signals, which this system does not have. This line stops the build
// with the reason.
var _ = fernRelayNeedsLinuxOrMacOS
