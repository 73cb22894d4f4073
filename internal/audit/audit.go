// Package audit is the book of who did what: every entry is sealed together with the one before
// it, so that what is changed or cut out of it is noticed.
//
// From the ground up: store, audit.
package audit

import (
	"context"
	"crypto/hmac"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"strconv"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
	"undersail/internal/store"
)

// Journal is what is written into, and read.
type Journal struct {
	store  Store
	sealed *sealed.Sealed
	log    *slog.Logger
}

// New keeps a journal in a store.
func New(st Store, box *sealed.Sealed, log *slog.Logger) *Journal {
	return &Journal{st, box, log}
}

// Entry is one thing that somebody did.
type Entry struct {
	Number  int64          `json:"number"`
	At      time.Time      `json:"at"`
	Who     string         `json:"who"`
	Action  string         `json:"action"`
	Subject string         `json:"subject"`
	Reason  string         `json:"reason,omitempty"`
	Detail  map[string]any `json:"detail"`
}

// Chain is what checking the audit found.
type Chain struct {
	Sound   bool  `json:"sound"`
	Entries int64 `json:"entries"`
	// Head stands for everything up to now, as NUMBER:HASH. Kept outside, it shows later
	// that nothing was cut off the end.
	Head string `json:"head"`
	// Fault says at which entry what is wrong.
	Fault string `json:"fault,omitempty"`
}

// Record writes down who did what to what. Detail never holds the value of a secret.
func (s *Journal) Record(ctx context.Context, who, action, subject, reason string, detail map[string]any) error {
	if detail == nil {
		detail = map[string]any{}
	}
	raw, err := json.Marshal(detail)
	if err != nil {
		return fmt.Errorf("write the audit: %w", err)
	}
	err = s.store.AddAudit(ctx,
		store.AuditEntry{Who: who, Action: action, Subject: subject, Reason: reason, Detail: raw}, s.auditHash)
	if err != nil {
		return fmt.Errorf("write the audit: %w", err)
	}
	return nil
}

// RecordOf writes down what somebody does, with the token that they do it by.
func (s *Journal) RecordOf(ctx context.Context, u people.User, action, subject, reason string,
	detail map[string]any) error {
	if token := u.Actor().Token; token != 0 {
		if detail = maps.Clone(detail); detail == nil {
			detail = map[string]any{}
		}
		detail["token"] = token
	}
	return s.Record(ctx, u.Name, action, subject, reason, detail)
}

// Done writes down what was done already. What cannot be written is logged: it must not
// make a call seem to have failed whose work is done.
func (s *Journal) Done(ctx context.Context, u people.User, action, subject string, detail map[string]any) {
	if err := s.RecordOf(context.WithoutCancel(ctx), u, action, subject, "", detail); err != nil {
		s.log.Error("what somebody did is not in the audit", "who", u.Name, "action", action, "subject", subject,
			"error", err)
	}
}

// auditHash is an HMAC-SHA256 (RFC 2104) with a key that the database never holds
// unsealed, over the entry and the hash of the one before: whoever changes the table
// cannot make the hashes fit. Each part is written with its length, so that no two
// entries are written alike.
func (s *Journal) auditHash(e store.AuditEntry, before []byte) []byte {
	return s.sealed.SealOf("", string(before), strconv.FormatInt(e.Number, 10), e.At.UTC().Format(time.RFC3339Nano),
		e.Who, e.Action, e.Subject, e.Reason, sealed.Canonical(e.Detail))
}

// List lists what was done, the newest first. Whoever is no administrator sees what
// they did themselves; a token that was made for less than its owner may, what was done
// with it.
func (s *Journal) List(ctx context.Context, u people.User, q store.AuditQuery) ([]Entry, error) {
	if !u.May(access.Administer, "") {
		if q.Who != "" && !u.Actor().IsOf(q.Who) {
			return nil, refusal.New(refusal.Forbidden, "ask an administrator",
				"only an administrator reads what others did")
		}
		if q.Who = u.Name; !u.Owns(u.Name) {
			q.Token = u.Token()
		}
	}
	if q.Limit <= 0 || q.Limit > 500 {
		q.Limit = 100
	}
	rows, err := s.store.Audit(ctx, q)
	out := make([]Entry, 0, len(rows))
	for _, e := range rows {
		x := Entry{
			Number:  e.Number,
			At:      e.At,
			Who:     e.Who,
			Action:  e.Action,
			Subject: e.Subject,
			Reason:  e.Reason,
			Detail:  map[string]any{},
		}
		_ = json.Unmarshal(e.Detail, &x.Detail) // what cannot be read is told by the check
		out = append(out, x)
	}
	return out, err
}

// Check computes every hash anew. Head, when given, is one that an earlier check
// told: the entry must still be there with that hash.
func (s *Journal) Check(ctx context.Context, u people.User, head string) (Chain, error) {
	if err := u.Must(access.Administer, ""); err != nil {
		return Chain{}, err
	}
	known, knownHash, err := parseHead(head)
	if err != nil {
		return Chain{}, err
	}
	out := Chain{Sound: true}
	var before []byte
	var last int64
	faults := 0
	fault := func(number int64, format string, args ...any) {
		if faults++; out.Sound {
			out.Sound, out.Fault = false, fmt.Sprintf("entry %d: ", number)+fmt.Sprintf(format, args...)
		}
	}
	for {
		list, err := s.store.AuditFrom(ctx, last)
		if err != nil {
			return out, fmt.Errorf("reading the journal: %w", err)
		}
		for _, e := range list {
			// One that was forged or changed hides nothing of what comes after it: that goes on
			// from the hash that stands there.
			switch {
			case e.Number != last+1:
				fault(last+1, "it is missing")
			case !hmac.Equal(e.Hash, s.auditHash(e, before)):
				fault(e.Number, "it is not as it was written, or the one before it is not")
			case e.Number == known && hex.EncodeToString(e.Hash) != knownHash:
				fault(e.Number, "it has another hash than the head that was given")
			}
			last, before = e.Number, e.Hash
		}
		if len(list) == 0 {
			break
		}
	}
	out.Entries = last
	if !out.Sound {
		out.Fault = fmt.Sprintf("%s; the check goes on behind it to entry %d, and finds %d such entries", out.Fault,
			last, faults)
		return out, nil
	}
	if known > out.Entries {
		fault(known, "the head that was given is missing: the end was cut off")
	}
	out.Head = fmt.Sprintf("%d:%s", out.Entries, hex.EncodeToString(before))
	return out, nil
}

func parseHead(head string) (int64, string, error) {
	if head == "" {
		return 0, "", nil
	}
	text, hash, ok := strings.Cut(head, ":")
	number, err := strconv.ParseInt(text, 10, 64)
	if !ok || err != nil || number < 0 {
		return 0, "", refusal.New(refusal.Invalid, "give it as an earlier check told it", "%q is no head of the audit",
			head)
	}
	return number, hash, nil
}
