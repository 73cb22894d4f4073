package secret_test

import (
	"fmt"

	"undersail/internal/secret"
)

// A secret is found in the forms that layers on the way make of it.
func ExampleScrubber_Text() {
	s := secret.NewScrubber(map[string]string{"password": "low-tide-at-dawn"})
	fmt.Println(s.Text("signed in with low-tide-at-dawn"))
	fmt.Println(s.Text(fmt.Sprintf("%x", "low-tide-at-dawn")))
	// Output:
	// signed in with secret:password
	// secret:password
}

func ExampleCheckPassword() {
	hash := secret.HashPassword("the harbour bell rings")
	fmt.Println(secret.CheckPassword(hash, "the harbour bell rings"), secret.CheckPassword(hash, "the bell"))
	// Output: true false
}
