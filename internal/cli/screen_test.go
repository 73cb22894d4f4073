package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"undersail/internal/accounts"
)

func TestControlCharactersAreShownAndNotSent(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"plain\n\ttext, ä 潮": "plain\n\ttext, ä 潮",
		"\x1b]0;owned\x07":   `\x1b]0;owned\x07`,
		"\x1b[2J":            `\x1b[2J`,
		"a\rb":               `a\x0db`,
		"\u009b31m":          `\x9b31m`,
		"abc\u202edcb":       `abc\x202edcb`,
		"del\x7f":            `del\x7f`,
		"mark\u200e":         `mark\x200e`,
	} {
		if got := shown(text); got != want {
			t.Errorf("%q is shown as %q, want %q", text, got, want)
		}
	}
	odd := "a\u202eb\u009bc\x7f\u200e"
	encoded, _ := json.Marshal(odd)
	escaped := shownJSON(string(encoded))
	var back string
	err := json.Unmarshal([]byte(escaped), &back)
	if err != nil || back != odd || strings.IndexFunc(escaped, unsafeToShow) >= 0 {
		t.Errorf("%s becomes %q, %v", escaped, back, err)
	}
	path := filepath.Join(t.TempDir(), "out")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	s := screen{f}
	if n, err := s.Write([]byte("\x1b[31mred\n")); n != 9 || err != nil {
		t.Error(n, err)
	}
	raw(s).Write([]byte("\x1b[0m"))
	f.Close()
	if data, _ := os.ReadFile(path); string(data) != "\\x1b[31mred\n\x1b[0m" {
		t.Errorf("%q", data)
	}
}

func TestALoginThatOthersCouldReadIsReplaced(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", dir)
	path := filepath.Join(dir, "undersail", "login.json")
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	other := filepath.Join(dir, "other")
	for name, before := range map[string]func() error{
		"a file for everybody": func() error { return os.WriteFile(path, []byte("{}"), 0o644) },
		"a link elsewhere": func() error {
			os.Remove(path)
			os.WriteFile(other, nil, 0o644)
			return os.Symlink(other, path)
		},
	} {
		if err := before(); err != nil {
			t.Fatal(err)
		}
		if err := (login{URL: "http://127.0.0.1:1", Token: "usk_x"}).save(); err != nil {
			t.Fatal(err)
		}
		info, err := os.Lstat(path)
		if err != nil || info.Mode() != 0o600 {
			t.Errorf("%s: %v %v", name, info.Mode(), err)
		}
	}
	if data, _ := os.ReadFile(other); len(data) > 0 {
		t.Error("the login was written through a link")
	}
}

func TestWhatAnAccountIsHeldToIsRead(t *testing.T) {
	t.Parallel()
	b, err := boundsOf(accounts.Bounds{}, "north-fell,ember-coast", "2027-01-31", "7d", "900",
		[]string{"owner=forecasting", "office=saltmere"})
	if err != nil || len(*b.AllowedRegions) != 2 || *b.Budget != 900 || *b.LeaseSeconds != 7*24*3600 ||
		(*b.Tags)["office"] != "saltmere" || b.EndsAt.Hour() != 23 || b.EndsAt.Day() != 31 {
		t.Errorf("%+v %v", b, err)
	}
	none, err := boundsOf(accounts.Bounds{}, "none", "none", "none", "none", []string{"none"})
	if err != nil || len(*none.AllowedRegions) != 0 || *none.Budget >= 0 || *none.LeaseSeconds != 0 ||
		len(*none.Tags) != 0 || !none.EndsAt.IsZero() {
		t.Errorf("%+v %v", none, err)
	}
	for _, wrong := range [][4]string{{"", "soon", "", ""}, {"", "", "long", ""}, {"", "", "", "much"},
		{"", "", "", "-1"}, {}} {
		if _, err := boundsOf(accounts.Bounds{}, wrong[0], wrong[1], wrong[2], wrong[3], nil); err == nil {
			t.Errorf("%v is taken", wrong)
		}
	}
	_, err = boundsOf(accounts.Bounds{}, "", "", "", "", []string{"owner"})
	if err == nil || !strings.Contains(err.Error(), "NAME=VALUE") {
		t.Error(err)
	}
}
