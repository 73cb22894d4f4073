package resource

import "testing"

// TestATextThatIsASecretAloneReadsAsItsReference, and one that holds it besides with it in place.
func TestATextThatIsASecretAloneReadsAsItsReference(t *testing.T) {
	t.Parallel()
	mark := MarkSecret("told/word@1", false)
	for text, want := range map[string]string{
		mark:               "secret:told/word@1",
		"word=" + mark:     "word=⟨secret:told/word@1⟩",
		mark + mark:        "⟨secret:told/word@1⟩⟨secret:told/word@1⟩",
		"nothing is in it": "nothing is in it",
	} {
		if got := Shown(text); got != want {
			t.Errorf("%q is shown as %v, want %s", text, got, want)
		}
	}
}
