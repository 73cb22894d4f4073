// Package state names the states of things, one word each, as people see them and
// as they are recorded. The states of a step are those of core/schedule.
package state

// The kinds of runs and of the proposals that they carry out.
const (
	KindApply    = "apply"
	KindContinue = "continue"
	KindRetire   = "retire"
	KindUndo     = "undo"
	KindDiscard  = "discard" // a kept resource is removed for good
	KindGive     = "give"    // values, or an agreement, for a run that goes on
)

// The states of a run. Parked waits for a person.
const (
	Queued   = "queued"
	Underway = "underway"
	Parked   = "parked"
	Stopping = "stopping"
	Stopped  = "stopped"
	Undoing  = "undoing"
	Undone   = "undone"
	Done     = "done"
	Failed   = "failed"
)

// What a parked run waits for.
const (
	ForCredentials = "credentials"
	ForConsent     = "consent"
	ForInput       = "input"
	ForAgreement   = "agreement" // to uses of secrets that nobody agreed to
)

// What becomes of a run that fails.
const (
	Keep = "keep"
	Undo = "undo"
)

// The states of a resource. An absent one is recorded because its making was
// begun: whether it is there is asked of the cloud.
const (
	Absent    = "absent"
	Settling  = "settling"
	Healthy   = "healthy"
	Unhealthy = "unhealthy"
	Missing   = "missing"
	Removing  = "removing"
	Removed   = "removed"
	Kept      = "kept"
)

// The states of a proposal.
const (
	Open     = "open"
	Accepted = "accepted"
	Refused  = "refused"
	Stale    = "stale"
	Applied  = "applied"
	Expired  = "expired"
)
