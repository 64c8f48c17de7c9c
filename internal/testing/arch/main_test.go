package arch_test

import (
	"os"
	"testing"
)

// These tests look at the whole house, from its door.
func TestMain(m *testing.M) {
	if err := os.Chdir("../.."); err != nil {
		panic(err)
	}
	os.Exit(m.Run())
}
