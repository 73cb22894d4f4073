package change

import (
	"fmt"

	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
)

// chooseNewFirst tells for each rebuild whether the new one is made first: where
// the template asks for it, and where what uses the old one is only altered and
// so needs the new one before it lets go of the old.
func (o *ordering) chooseNewFirst() {
	byRecorded := map[string]*Change{}
	var rebuilds []*Change
	for i := range o.changes {
		c := &o.changes[i]
		byRecorded[c.recordedAs()] = c
		if c.Change != Rebuild {
			continue
		}
		rebuilds = append(rebuilds, c)
		if why := o.bars(*c); why != "" {
			o.barred[c.Resource] = why
		}
		r := o.wanted(*c)
		o.newFirst[c.Resource] = r != nil && r.NewFirst
	}
	if len(rebuilds) == 0 {
		return
	}
	for again := true; again; {
		again = false
		for _, c := range rebuilds {
			was := o.recorded[c.recordedAs()]
			if was == nil || o.newFirst[c.Resource] && o.barred[c.Resource] == "" {
				continue
			}
			for _, name := range o.users[was.Name] {
				user := byRecorded[name]
				if user == nil {
					continue
				}
				moves := user.Change == Alter && o.holds(name, was)
				follows := user.Change == Rebuild && o.newFirst[user.Resource] && o.barred[user.Resource] == ""
				switch {
				case follows && o.barred[c.Resource] != "": // then its users go first too
					o.barred[user.Resource] = c.Resource + ", which it uses, has to go first"
					again = true
				case (moves || follows) && o.barred[c.Resource] == "":
					o.newFirst[c.Resource], again = true, true
				}
			}
		}
	}
	for _, c := range rebuilds {
		if why := o.barred[c.Resource]; why != "" && o.newFirst[c.Resource] {
			if r := o.wanted(*c); r != nil && r.NewFirst {
				o.find(lang.Warning, "old-first", c.Resource, "plan for the time between",
					"the new one cannot be made first: %s", why)
			}
			o.newFirst[c.Resource] = false
		}
		if o.newFirst[c.Resource] {
			c.Old = OldName(c.Resource)
		}
	}
}

// holds reports whether what is recorded under a name holds the id of a resource.
func (o *ordering) holds(name string, of *Recorded) bool {
	user := o.recorded[name]
	if user == nil || of.ID() == "" {
		return false
	}
	t, _ := resource.ByName(user.Type)
	return t.RefersTo(user.Want, of.ID())
}

// bars tells why the new one of a rebuild cannot be made while the old one is there.
func (o *ordering) bars(c Change) string {
	was, r := o.recorded[c.recordedAs()], o.wanted(c)
	switch {
	case was == nil || r == nil:
		return ""
	case c.Keeps:
		return "the old one is kept under its name"
	case o.recorded[OldName(c.Resource)] != nil && c.recordedAs() != OldName(c.Resource):
		return "the old one of an earlier rebuild is still there"
	case was.Type != r.Type || was.Region != r.Region:
		return ""
	}
	t, _ := resource.ByName(r.Type)
	for _, u := range t.Unique {
		if v := u.Clash(was.Want, r.Want); v != "" {
			return fmt.Sprintf("the old one holds the `%s` %s until it is gone", u.Property, o.words(v))
		}
	}
	return ""
}

// words names a value: an id by the resource that has it.
func (o *ordering) words(v string) string {
	for name, r := range o.recorded {
		if r.ID() == v {
			return name
		}
	}
	return v
}
