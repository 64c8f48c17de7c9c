package kits_test

import (
	"flag"
	"os"
	"testing"
)

// These tests mostly wait, for servers and for PHP: more of them side by side
// than there are processors are done sooner.
func TestMain(m *testing.M) {
	flag.Parse()
	if err := flag.Set("test.parallel", "6"); err != nil {
		panic(err)
	}
	os.Exit(m.Run())
}
