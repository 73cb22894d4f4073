package openstack

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"time"

	"undersail/internal/cloud"
)

// WhoAmI tells the project, its roles and regions, and when what signs in to it ends.
func (a *Adapter) WhoAmI(ctx context.Context) (cloud.Identity, error) {
	s, err := a.signedIn(ctx)
	if err != nil {
		return cloud.Identity{}, fmt.Errorf("ask OpenStack who this account is: %w", err)
	}
	me := cloud.Identity{
		Account:   cmp.Or(s.project.Name, s.project.ID),
		Regions:   s.regions(),
		ClockRate: 1,
		Roles:     []string{},
	}
	for _, r := range s.roles {
		me.Roles = append(me.Roles, r.Name)
	}
	slices.Sort(me.Roles)
	if len(me.Regions) == 0 {
		return me, &cloud.Error{
			Class:   cloud.Invalid,
			Message: "the catalogue of project " + me.Account + " has no region with compute and network",
			Remedy:  "ask whoever runs the cloud for both",
		}
	}
	if a.creds.ApplicationID != "" {
		me.Ends, err = a.ends(ctx, s, me.Regions[0])
	}
	return me, err
}

// ends asks when an application credential ends. One that may not ask that is not told.
func (a *Adapter) ends(ctx context.Context, s *session, region string) (time.Time, error) {
	var answer struct {
		Credential struct {
			Ends string `json:"expires_at"`
		} `json:"application_credential"`
	}
	err := a.get(ctx, region, identity,
		"users/"+url.PathEscape(s.user.ID)+"/application_credentials/"+url.PathEscape(a.creds.ApplicationID), &answer)
	untold := []cloud.Class{cloud.Denied, cloud.Gone, cloud.Invalid}
	if err != nil && slices.Contains(untold, cloud.ClassOf(err)) {
		return time.Time{}, nil
	}
	if err != nil || answer.Credential.Ends == "" {
		return time.Time{}, err
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04:05.999999"} { // the service leaves out its zone
		if at, err := time.Parse(layout, answer.Credential.Ends); err == nil {
			return at, nil
		}
	}
	return time.Time{}, nil
}
