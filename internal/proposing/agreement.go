package proposing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/use"
	"undersail/internal/engine"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
	"undersail/internal/store"
)

// What somebody agrees to is one thing: everything that the proposal says it will do, with
// its values, the uses of secrets, the consents, who shaped it, and what becomes of its run
// if that fails. It is sealed when it is accepted, and held against the seal when its run
// begins and whenever an engine takes that up: a row that somebody else wrote is none.

const forAgreement, forGiven = "agreement", "given"

// sealOf seals what is agreed to with a proposal.
func (s *Proposing) sealOf(p store.Proposal, decidedBy, onFailure string, consents []string) []byte {
	return s.sealed.SealOf(forAgreement, agreementParts(p, decidedBy, onFailure, consents)...)
}

func agreementParts(p store.Proposal, decidedBy, onFailure string, consents []string) []string {
	consents = slices.Clone(consents)
	slices.Sort(consents)
	return []string{fmt.Sprint(p.ID), p.StackID, p.Kind, sealed.Canonical(p.Document), p.CreatedBy,
		strings.Join(p.ShapedBy, " "), decidedBy, onFailure, strings.Join(consents, " ")}
}

// holds reports whether what is recorded of an accepted proposal is what was agreed to.
func (s *Proposing) holds(ctx context.Context, p store.Proposal) error {
	consents, err := s.consentsGiven(ctx, p.ID)
	if err != nil {
		return err
	}
	if !s.sealed.Holds(p.Agreement, forAgreement, agreementParts(p, p.DecidedBy, p.OnFailure, consents)...) {
		return refusal.New(refusal.Conflict, "propose again",
			"proposal %d is not what was agreed to: somebody changed the record", p.ID)
	}
	return nil
}

// consentsGiven names the consents that were given with a proposal.
func (s *Proposing) consentsGiven(ctx context.Context, id int64) ([]string, error) {
	list, err := s.store.Consents(ctx, id)
	names := make([]string, len(list))
	for i, c := range list {
		names[i] = c.Name
	}
	return names, err
}

// AgreementOf gives an engine what was agreed to with the proposal of a run, and in the
// middle of it.
func (s *Proposing) AgreementOf(p store.Proposal, run store.Run) (sealed.Agreement, error) {
	err := s.holds(context.Background(), p)
	var changed *refusal.Error
	if errors.As(err, &changed) {
		return sealed.Agreement{}, fmt.Errorf("%w: %w", engine.ErrNotAgreed, err)
	}
	if err != nil {
		return sealed.Agreement{}, err
	}
	if len(run.Given)+len(run.Agreed) > 0 && !s.sealed.Holds(run.GivenSeal, forGiven, givenParts(run)...) {
		return sealed.Agreement{}, fmt.Errorf("%w: what run %d was given is not what somebody gave: somebody "+
			"changed the record", engine.ErrNotAgreed, run.ID)
	}
	var d proposal.Document
	if err := json.Unmarshal(p.Document, &d); err != nil {
		return sealed.Agreement{}, fmt.Errorf("read proposal %d: %w", p.ID, err)
	}
	if !d.UsesListed {
		return sealed.AsRecorded(), nil
	}
	return sealed.Agreed(d.Uses, run.Agreed), nil
}

// givenParts are what is sealed of what a run was given.
func givenParts(run store.Run) []string {
	given, _ := json.Marshal(run.Given) // nothing reads as an empty mapping
	agreed, _ := json.Marshal(append([]use.Use{}, run.Agreed...))
	return []string{fmt.Sprint(run.ID), sealed.Canonical(given), sealed.Canonical(agreed)}
}

// SealAgreements seals once what was accepted by older programs: it counts as agreed.
func (s *Proposing) SealAgreements(ctx context.Context) error {
	if _, err := s.store.Setting(ctx, store.AgreementsSealed); !errors.Is(err, store.ErrNotFound) {
		return err
	}
	for after := int64(0); ; {
		list, err := s.store.Unsealed(ctx, after)
		if err != nil {
			return fmt.Errorf("looking for secrets that are not sealed: %w", err)
		}
		for _, p := range list {
			names, err := s.consentsGiven(ctx, p.ID)
			if err != nil {
				return err
			}
			if err := s.store.SealProposal(ctx, p.ID, s.sealOf(p, p.DecidedBy, p.OnFailure, names)); err != nil {
				return fmt.Errorf("sealing proposal %d: %w", p.ID, err)
			}
			after = p.ID
		}
		if len(list) == 0 {
			break
		}
	}
	runs, err := s.store.UnsealedRuns(ctx)
	if err != nil {
		return fmt.Errorf("looking for runs that are not sealed: %w", err)
	}
	for _, run := range runs {
		if err := s.store.SealRun(ctx, run.ID, s.sealed.SealOf(forGiven, givenParts(run)...)); err != nil {
			return fmt.Errorf("sealing run %d: %w", run.ID, err)
		}
	}
	_, err = s.store.FirstSetting(ctx, store.AgreementsSealed, []byte("1"))
	return err
}

// asksFor says which consent a proposal waits for, and how it is given.
func asksFor(id int64, c render.Consent) render.Finding {
	return render.Finding{
		Severity: lang.Error,
		Code:     "consent",
		Place:    c.Name,
		Message:  c.About,
		Remedy:   fmt.Sprintf("if you agree, say so: undersail accept %d --agree %s", id, c.Name),
	}
}
