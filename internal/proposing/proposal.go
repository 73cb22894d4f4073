package proposing

import (
	"encoding/json"
	"errors"
	"regexp"
	"slices"
	"time"

	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/use"
)

// mostResources is how many resources one stack may have here.
const mostResources = 10_000

// NewProposal is what a proposal is asked for with. Template names one in the
// library; Source is the text of one that is not, File its name for messages.
type NewProposal struct {
	Stack    string `json:"stack"`
	Template string `json:"template,omitempty"`
	Source   string `json:"source,omitempty"`
	File     string `json:"file,omitempty"`
	// Parts are what the text embeds from beside it.
	Parts []lang.Bundle `json:"parts,omitempty"`
	// Preset names a preset of the template. Layers are inputs files, lowest
	// first; Inputs lie above them all.
	Preset  string            `json:"preset,omitempty"`
	Layers  []render.Layer    `json:"layers,omitempty"`
	Account string            `json:"account,omitempty"`
	Region  string            `json:"region,omitempty"`
	Inputs  map[string]any    `json:"inputs,omitempty"`
	Secrets map[string]string `json:"secrets,omitempty"`
	// Keep names resources that stay in the cloud when they leave the stack.
	Keep []string `json:"keep,omitempty"`
	// LiftGuard names what may be rebuilt or removed for this once although it is guarded.
	LiftGuard []string `json:"lift_guard,omitempty"`
	// Again names tasks that are run again although nothing of them changes.
	Again []string `json:"again,omitempty"`
	// Rebuild names resources that are made anew although nothing of them changes.
	Rebuild []string `json:"rebuild,omitempty"`

	// shaped are those who filled in what is proposed, beside whoever proposes it.
	shaped []string
	// unnamed says that the stack has no name yet, and is none that is there.
	unnamed bool
}

// Proposal is a saved set of changes. One that would change nothing is not saved:
// it has no id and the state nothing.
type Proposal struct {
	ID       int64               `json:"id"`
	Stack    string              `json:"stack"`
	Kind     string              `json:"kind"`
	State    string              `json:"state"`
	Why      string              `json:"why,omitempty"`
	Template string              `json:"template,omitempty"`
	Account  string              `json:"account"`
	Region   string              `json:"region"`
	Summary  string              `json:"summary"`
	Changes  []change.Change     `json:"changes"`
	Findings []render.Finding    `json:"findings"`
	Inputs   []render.InputValue `json:"inputs"`
	Outputs  []render.Output     `json:"outputs"`
	Consents []render.Consent    `json:"consents"`
	// Interruptions are what happens to what serves, for how long, and why.
	Interruptions []change.Interruption `json:"interruptions,omitempty"`
	// Given are the consents that were given, with who and when.
	Given []GivenConsent `json:"given"`
	// Compliance is what the template needs at least, and what was chosen.
	Compliance []render.Compliance `json:"compliance"`
	// Quota is what is left of each quota that it adds to.
	Quota []QuotaLine `json:"quota"`
	// Public can be reached from outside, Data is lost for good when it is removed, Reads
	// are the secrets that are handed to resources.
	Public []string `json:"public"`
	Data   []string `json:"data"`
	Reads  []string `json:"reads"`
	// Promise is how long the template says that it takes, in seconds of the account's
	// clock; 0 is not said.
	Promise   int64      `json:"promise,omitempty"`
	Cost      price.Cost `json:"cost"`
	CostNow   price.Cost `json:"cost_now"`
	Seconds   float64    `json:"seconds"`
	Longest   []string   `json:"longest"`
	CreatedBy string     `json:"created_by"`
	// ShapedBy is everybody who filled in what is proposed.
	ShapedBy []string `json:"shaped_by"`
	// Uses are what secrets are opened for.
	Uses []use.Use `json:"uses"`
	// GivesTo is the run that goes on with what the proposal gives.
	GivesTo *int64 `json:"gives_to,omitempty"`
	// OnFailure is what was agreed to become of its run if that fails.
	OnFailure string     `json:"on_failure,omitempty"`
	CreatedAt time.Time  `json:"created_at"`
	DecidedBy string     `json:"decided_by,omitempty"`
	DecidedAt *time.Time `json:"decided_at,omitempty"`
	ExpiresAt time.Time  `json:"expires_at"`
	// SecondPerson asks that somebody else than its author accepts it.
	SecondPerson bool   `json:"second_person,omitempty"`
	RunID        *int64 `json:"run,omitempty"`
	// Undoes is the run that the proposal would undo.
	Undoes *int64 `json:"undoes,omitempty"`
	// Rate is how many seconds of the account's clock pass in a real one: seconds are
	// real ones.
	Rate float64 `json:"rate"`
}

const proposalLife = 24 * time.Hour

var stackPattern = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

// errTaken says that somebody else gave a secret its reference at this moment.
var errTaken = errors.New("a reference is taken")

// sameJSON compares what may have gone through JSON; nothing is the same as empty.
func sameJSON[T any](a, b T) bool {
	x, errX := json.Marshal(a)
	y, errY := json.Marshal(b)
	empty := func(raw []byte) string {
		if text := string(raw); text != "null" && text != "[]" {
			return text
		}
		return "{}"
	}
	return errX == nil && errY == nil && empty(x) == empty(y)
}

// together adds a name to others.
func together(names []string, name string) []string {
	if slices.Contains(names, name) {
		return names
	}
	return append(slices.Clone(names), name)
}

// GivenConsent is what somebody agreed to.
type GivenConsent struct {
	render.Consent
	By string    `json:"by"`
	At time.Time `json:"at"`
}

// QuotaLine is one quota of a region with what a proposal adds to it.
type QuotaLine struct {
	Region string `json:"region"`
	Name   string `json:"name"`
	Limit  int64  `json:"limit"`
	Used   int64  `json:"used"`
	// Wanted is what open proposals and runs of other stacks will take.
	Wanted int64 `json:"wanted"`
	Adds   int64 `json:"adds"`
	Left   int64 `json:"left"`
}
