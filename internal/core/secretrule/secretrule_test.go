package secretrule

import (
	"crypto/rand"
	"strings"
	"testing"
)

func TestRulesNameWhatIsBrokenAndNeverTheSecret(t *testing.T) {
	t.Parallel()
	r := Rules{Length: 14, Classes: 3, Forbid: []string{"tide"}}
	for secret, want := range map[string]int{
		"Long-Enough-99x":     0,
		"short":               2,
		"alllowercaseletters": 1,
		"Contains-TIDE-1234":  1,
	} {
		broken := r.Check(secret)
		if len(broken) != want {
			t.Errorf("%q breaks %v, want %d rules", secret, broken, want)
		}
		if strings.Contains(strings.Join(broken, " "), secret) {
			t.Errorf("the secret is repeated: %v", broken)
		}
	}
}

func TestGeneratedSecretsKeepTheirRules(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	for _, r := range []Rules{{}, {Length: 40, Classes: 4}, {Length: 1, Forbid: []string{"a"}}} {
		for range 50 {
			s, err := r.Generate(rand.Reader)
			if err != nil || len(r.Check(s)) > 0 || seen[s] {
				t.Fatalf("generated %q for %v: %v, %v", s, r, r.Check(s), err)
			}
			seen[s] = true
		}
	}
	if _, err := (Rules{}).Generate(strings.NewReader("too little")); err == nil {
		t.Error("generated a secret without entropy")
	}
}
