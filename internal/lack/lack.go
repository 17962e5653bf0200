// Package lack skips tests that this machine cannot run, and does not let that pass
// unseen: scripts/test lists them at its end, and in CI they fail.
package lack

import (
	"fmt"
	"os"
	"os/exec"
	"testing"
)

// Of skips a test for something that the machine has not. With CI=true the test fails.
func Of(t testing.TB, what string) {
	t.Helper()
	if os.Getenv("CI") == "true" {
		t.Fatalf("this machine has not what the test needs: %s", what)
	}
	if file := os.Getenv("INITIUM_TEST_SKIPS"); file != "" {
		f, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		fmt.Fprintf(f, "%s needs %s\n", t.Name(), what)
	}
	t.Skipf("this machine has not what the test needs: %s", what)
}

// Programs skips a test when one of some programs is not installed.
func Programs(t testing.TB, programs ...string) {
	t.Helper()
	for _, p := range programs {
		if _, err := exec.LookPath(p); err != nil {
			Of(t, p)
		}
	}
}
