package servicetest

import (
	"context"
	"fmt"

	"undersail/internal/core/resource"
	"undersail/internal/core/state"
	"undersail/internal/service"
)

// Differences holds the cloud, the records and the checks of a stack against each
// other and lists where they differ. Of a retired stack nothing may be left.
func (r *Rig) Differences(s *service.Service, stack string, retired bool) []string {
	r.t.Helper()
	var out []string
	differ := func(format string, args ...any) { out = append(out, stack+": "+fmt.Sprintf(format, args...)) }
	alive, kept := map[string]string{}, map[string]bool{}
	list, err := s.Proposing.Kept(context.Background())
	if err != nil {
		return []string{err.Error()}
	}
	for _, k := range list {
		kept[k.ID] = true
	}
	for _, x := range r.Ledger().Alive {
		name := x.Tags["undersail-resource"]
		if x.Tags["undersail-stack"] != stack || x.Phase == "removing" || kept[x.ID] {
			continue
		}
		if alive[name] != "" {
			differ("two of %s are alive: %s and %s", name, alive[name], x.Name)
		}
		alive[name] = x.Name
	}
	if retired {
		if len(alive) > 0 {
			differ("it is retired, and left are %v", alive)
		}
		return out
	}
	ctx := context.Background()
	st, err := s.Stacks.Show(ctx, stack)
	if err != nil {
		differ("%v", err)
		return out
	}
	for _, x := range st.Resources {
		if t, _ := resource.ByName(x.Type); t.Own { // no cloud has it
			alive[x.Name] = x.Name
		}
	}
	if st.Total != len(alive) || st.Healthy != len(alive) || len(st.Resources) != len(alive) {
		differ("recorded are %d, healthy %d, and alive %d", st.Total, st.Healthy, len(alive))
	}
	for _, x := range st.Resources {
		if alive[x.Name] == "" {
			differ("%s is recorded %s and is not there", x.Name, x.State)
		}
	}
	v, err := s.Stacks.Verify(ctx, r.Admin, stack)
	if err != nil {
		differ("it cannot be verified: %v", err)
		return out
	}
	for _, x := range v.Resources {
		if x.State != state.Healthy {
			differ("%s is %s: %s", x.Name, x.State, x.Reason)
		}
	}
	return append(out, r.gaps(s, stack)...)
}

// Settled reports where the cloud, the records and the checks of a stack differ.
// What is kept is alive and belongs to no stack.
func (r *Rig) Settled(s *service.Service, stack string, report func(format string, args ...any)) {
	r.t.Helper()
	for _, d := range r.Differences(s, stack, false) {
		report("%s", d)
	}
}

// gaps lists events of the stack's runs whose numbers do not follow.
func (r *Rig) gaps(s *service.Service, stack string) []string {
	ctx := context.Background()
	runs, err := s.Stacks.Runs(ctx, stack, 0, 100)
	if err != nil {
		return []string{err.Error()}
	}
	var out []string
	for _, run := range runs {
		list, err := s.Stacks.Events(ctx, run.ID, 0, 100_000)
		if err != nil {
			return append(out, err.Error())
		}
		for i, e := range list {
			if e.Number != int64(i+1) {
				out = append(out, fmt.Sprintf("%s: event %d of run %d has the number %d", stack, i+1, run.ID, e.Number))
				break
			}
		}
		if int64(len(list)) != run.LastEvent {
			out = append(out, fmt.Sprintf("%s: run %d has %d events of %d", stack, run.ID, len(list), run.LastEvent))
		}
	}
	return out
}
