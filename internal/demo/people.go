package demo

import (
	"context"

	"undersail/internal/people"
)

// loadPeople invites somebody for one account, keeps somebody out, and gives programs their
// tokens.
func (d *Demo) loadPeople(ctx context.Context) error {
	me, err := d.me(ctx)
	if err != nil {
		return err
	}
	s := d.daemon.Service
	for _, n := range []people.NewPerson{
		{Name: "nils", FullName: "Nils Aker", Roles: []string{"operator@saltmere-lab", "viewer"}},
		{Name: "signe", FullName: "Signe Moss", Roles: []string{"keeper", "reviewer"}},
	} {
		if _, err := s.People.Invite(ctx, me, n); err != nil {
			return err
		}
	}
	out := true
	if _, err := s.People.Change(ctx, me, "signe", people.PersonChange{Disabled: &out}); err != nil {
		return err
	}
	for _, n := range []people.NewToken{
		{About: "nightly-checks", Roles: []string{"operator@saltmere-lab"}, Seconds: 90 * 86_400},
		{About: "wall-display", Roles: []string{"viewer"}, Seconds: 300 * 86_400},
	} {
		if _, err := s.People.AddToken(ctx, me, n); err != nil {
			return err
		}
	}
	return nil
}
