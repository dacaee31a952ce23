package order

import "testing"

func TestA(t *testing.T) {}
