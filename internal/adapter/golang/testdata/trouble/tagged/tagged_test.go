//go:build integration && linux

package tagged

import "testing"

func TestIntegration(t *testing.T) {}
