package tagged

import "testing"

func TestPlain(t *testing.T) {}
