package sealed

import (
	"context"
	"fmt"

	"undersail/internal/core/use"
	"undersail/internal/secret"
)

// Run has the secrets of one run, or of one look at a stack, and opens them for uses that
// were agreed to. It is safe for concurrent use.
type Run struct {
	agreement Agreement
	values    map[string]string
	scrubber  *secret.Scrubber
}

// ForRun reads the secrets of a stack, and others by reference, for uses that were agreed to.
func (s *Sealed) ForRun(ctx context.Context, stackID string, references []string, agreement Agreement) (*Run, error) {
	values, err := s.values(ctx, stackID, references)
	if err != nil {
		return nil, err
	}
	return &Run{agreement, values, secret.NewScrubber(values)}, nil
}

// Foreign lists the machines that were told a secret which the run does not have, and so
// cannot take out of what they answer: it came on a disk of another stack.
func (r *Run) Foreign(told map[string][]string) map[string]bool {
	out := map[string]bool{}
	for machine, references := range told {
		for _, reference := range references {
			if _, known := r.values[reference]; !known {
				out[machine] = true
			}
		}
	}
	return out
}

// Scrubber takes the secrets of the run out of texts.
func (r *Run) Scrubber() *secret.Scrubber { return r.scrubber }

// Opens gives the values of uses that were all agreed to; else those that were not.
func (r *Run) Opens(list []use.Use) (reveal func(reference string) (string, bool), beyond []use.Use) {
	p, beyond := r.agreement.Permit(list)
	return func(reference string) (string, bool) {
		v, known := r.values[reference]
		return v, known && p.opens[reference]
	}, beyond
}

// PublicHalf gives the public half of a private key of the run.
func (r *Run) PublicHalf(reference, comment string) (string, error) {
	public, err := secret.Public(r.values[reference], comment)
	if err != nil {
		return "", fmt.Errorf("key %s cannot be read", reference)
	}
	return public, nil
}

// Recorded opens what is recorded of something that the run takes away, as a command that
// undoes another: it was agreed to when that was made.
func (r *Run) Recorded(reference string) (string, bool) {
	v, known := r.values[reference]
	return v, known
}
