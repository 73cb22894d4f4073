package test

import "testing"

func terminalShots(t *testing.T, b *bench, to string) {}
