package files_test

import (
	"flag"
	"os"
	"testing"
)

// TestMain runs only the tests INSEGNA_KILLED names where it is set: the others run
// with the race detector, and once is enough.
func TestMain(m *testing.M) {
	if only := os.Getenv("INSEGNA_KILLED"); only != "" {
		flag.Parse()
		_ = flag.Set("test.run", only)
	}
	os.Exit(m.Run())
}
