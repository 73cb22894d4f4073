package change

import (
	"undersail/internal/core/health"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// Recorded is what is known of a resource of the stack.
type Recorded struct {
	Name     string
	Type     string
	Declared string
	// Region is empty in the region of the stack.
	Region     string
	Want       map[string]any
	Attributes map[string]any
	// Healthy is false when the resource is there and was not proved healthy.
	Healthy bool
	// Broken says that the cloud could not make it, or that it broke since; Wreck
	// that it never came to be, so that it holds nothing.
	Broken, Wreck bool
	// Missing says that the cloud has it no more. Strayed lists what the cloud has
	// otherwise than is recorded.
	Missing bool
	Strayed []Field
	// Undoing says that a run is undone: what cannot be put back stays, and is told.
	// Fresh says that the run failed and made it, so that nobody relied on it yet.
	Undoing, Fresh bool
	// Becomes is the name under which an undoing puts it back, where the run that is undone
	// renamed it.
	Becomes string
	After   []string
	// Guard and AtRetire are as the stack was last applied, Checks as they were last
	// proved; nil when that is not known.
	Guard bool
	// Lifted says that the guard is lifted for this once, by name.
	Lifted   bool
	AtRetire string
	Checks   []health.Check
	// Again says that a task is to be run again although nothing of it changes.
	Again bool
	// Rebuild says that it is to be made anew although nothing of it changes.
	Rebuild bool
	// Kept says whose it was, such as readings/store, when it outlived its stack and
	// may be taken over.
	Kept string
	// Found says of a kept one that it was found with the mark of the stack, and was recorded
	// nowhere.
	Found bool
}

// ID is the cloud's own id of it.
func (r Recorded) ID() string {
	id, _ := r.Attributes["id"].(string)
	return id
}

// keeps reports whether the resource stays in the cloud when it leaves its stack.
func (r Recorded) keeps() bool { return r.AtRetire == "keep" && !r.Missing && !r.Wreck }

// loses reports whether data is lost for good when it is removed.
func (r Recorded) loses() bool {
	t, _ := resource.ByName(r.Type)
	return t.HoldsData && !r.Missing && !r.Wreck && !r.Fresh
}

// recordedOf finds what is recorded of a resource: what becomes it by an undoing, under its name,
// under the one that it had before, or as the old one whose successor was never begun.
func recordedOf(r render.Resource, find func(string, int) *Recorded, expected int,
	becomes map[string]*Recorded) *Recorded {
	if old := becomes[r.Name]; old != nil {
		return old
	}
	if old := find(r.Name, expected); old != nil && old.Becomes == "" {
		return old
	}
	if r.Was != "" {
		if old := find(r.Was, -1); old != nil {
			return old
		}
	}
	return find(OldName(r.Name), -1)
}

// OldName is the name of the old one of a rebuild that makes the new one first.
// No declared resource has a blank in its name.
func OldName(name string) string { return name + " (old)" }

// finder finds recorded resources by name: at the place where one is expected,
// since the order seldom changes, else by an index that is made when first
// needed.
func finder(recorded []Recorded) func(name string, expected int) *Recorded {
	var byName map[string]*Recorded
	return func(name string, expected int) *Recorded {
		if expected >= 0 && expected < len(recorded) && recorded[expected].Name == name {
			return &recorded[expected]
		}
		if byName == nil {
			byName = make(map[string]*Recorded, len(recorded))
			for i := range recorded {
				byName[recorded[i].Name] = &recorded[i]
			}
		}
		return byName[name]
	}
}
