package await

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func TestWhatComesAboutIsSeen(t *testing.T) {
	t.Parallel()
	looks := 0
	Until(t, "the third look", func() bool { looks++; return looks == 3 })
	if looks != 3 {
		t.Errorf("it looked %d times", looks)
	}
}

// apart are tests that no test of the suite runs: of pictures, of figures, of a real cloud.
var apart = []string{"screenshots_test.go", "terminal_test.go", "console_bench_test.go", "realcloud_test.go",
	"real_test.go"}

// TestNoTestWaitsForLuck: who pauses in a test says why on the line of it, and who waits for
// something to come about does so here.
func TestNoTestWaitsForLuck(t *testing.T) {
	t.Parallel()
	seen := 0
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && slices.Contains([]string{"node_modules", ".cache", ".git"}, d.Name()) {
			if err != nil {
				return err
			}
			return fs.SkipDir
		}
		if !strings.HasSuffix(path, "_test.go") || slices.Contains(apart, d.Name()) || d.Name() == "await_test.go" {
			return nil
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		seen++
		for n, line := range strings.Split(string(raw), "\n") {
			_, after, pauses := strings.Cut(line, "time.Sleep(")
			if pauses && (strings.HasPrefix(strings.TrimSpace(line), "for ") || !strings.Contains(after, "//")) {
				t.Errorf("%s:%d pauses without a reason; wait with await.Until", path, n+1)
			}
		}
		return nil
	})
	if err != nil || seen < 100 {
		t.Errorf("read %d tests: %v", seen, err)
	}
}
