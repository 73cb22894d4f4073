package console

import (
	"os/exec"
	"testing"
)

// TestThePureParts runs the tests of what the console decides without a browser, in Node.js.
func TestThePureParts(t *testing.T) {
	if out, err := exec.Command("npm", "run", "--silent", "test").CombinedOutput(); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
}
