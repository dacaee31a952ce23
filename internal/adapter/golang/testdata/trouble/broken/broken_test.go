package broken

import "testing"

func TestNever(t *testing.T) { undefinedHere() }

func TestNeither(t *testing.T) {}
