package service

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"slices"
	"time"

	"github.com/Masterminds/semver/v3"

	"undersail/internal/core/lang"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/library"
	"undersail/internal/store"
)

// Account is an account as people see it.
type Account struct {
	Name      string   `json:"name"`
	Cloud     string   `json:"cloud"`
	Endpoint  string   `json:"endpoint"`
	Regions   []string `json:"regions"`
	ClockRate float64  `json:"clock_rate"`
	Stacks    int      `json:"stacks"`
	// MostMonth is the cost of a month above which proposals ask for a consent.
	MostMonth *float64 `json:"most_month,omitempty"`
}

// Accounts lists all accounts.
func (s *Service) Accounts(ctx context.Context) ([]Account, error) {
	list, err := s.store.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	stacks, err := s.store.StacksByAccount(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]Account, len(list))
	for i, a := range list {
		out[i] = Account{a.Name, a.Cloud, a.Endpoint, a.Regions, a.ClockRate, stacks[a.Name], a.MostMonth}
	}
	return out, nil
}

// NewAccount is what an account is added with.
type NewAccount struct {
	Name         string `json:"name"`
	Cloud        string `json:"cloud"`
	Endpoint     string `json:"endpoint"`
	ClientID     string `json:"client_id"`
	ClientSecret string `json:"client_secret"`
}

// AddAccount signs in to a cloud and keeps the account, its credentials sealed.
// One that is there already gets the new credentials, and runs that were parked
// because the old ones ended go on.
func (s *Service) AddAccount(ctx context.Context, u User, n NewAccount) (Account, error) {
	if err := u.must("administer"); err != nil {
		return Account{}, err
	}
	plain, err := json.Marshal(map[string]string{"client_id": n.ClientID, "client_secret": n.ClientSecret})
	if err != nil {
		return Account{}, err
	}
	sealed, err := s.box.Seal(plain)
	if err != nil {
		return Account{}, err
	}
	a := store.Account{Name: n.Name, Cloud: n.Cloud, Endpoint: n.Endpoint, Credentials: sealed}
	adapter, err := s.connect(a)
	if err != nil {
		return Account{}, err
	}
	me, err := adapter.WhoAmI(ctx)
	if err != nil {
		return Account{}, cloudSays(err)
	}
	a.ClockRate, a.GuestRange, a.Regions = me.ClockRate, me.GuestRange, me.Regions
	if err := s.store.PutAccount(ctx, a); err != nil {
		return Account{}, err
	}
	s.forgetOffers(a.Name)
	if _, err := s.store.Unpark(ctx, a.Name, state.ForCredentials, engine.Grace, s.engine.Enqueue(ctx)); err != nil {
		return Account{}, err
	}
	return Account{a.Name, a.Cloud, a.Endpoint, a.Regions, a.ClockRate, 0, nil}, nil
}

// LimitAccount sets above which cost of a month proposals of an account ask for a
// consent; nil asks for none.
func (s *Service) LimitAccount(ctx context.Context, u User, name string, mostMonth *float64) (Account, error) {
	if err := u.must("administer"); err != nil {
		return Account{}, err
	}
	if mostMonth != nil && (*mostMonth < 0 || math.IsInf(*mostMonth, 0) || math.IsNaN(*mostMonth)) {
		return Account{}, refuse(Invalid, "give an amount of money, or none", "%g is no limit", *mostMonth)
	}
	if _, err := s.account(ctx, name); err != nil {
		return Account{}, err
	}
	if err := s.store.SetMostMonth(ctx, name, mostMonth); err != nil {
		return Account{}, err
	}
	list, err := s.Accounts(ctx)
	if err != nil {
		return Account{}, err
	}
	return list[slices.IndexFunc(list, func(a Account) bool { return a.Name == name })], nil
}

// Template is one version in the library.
type Template struct {
	Name        string    `json:"name"`
	Version     string    `json:"version"`
	Title       string    `json:"title"`
	About       string    `json:"about"`
	Maturity    string    `json:"maturity"`
	TakesS      int64     `json:"takes_seconds"`
	Digest      string    `json:"digest"`
	PublishedAt time.Time `json:"published_at"`
	Source      string    `json:"source,omitempty"`
	// Parts are what the text embeds; Origin is the library it came from.
	Parts  []lang.Bundle `json:"parts,omitempty"`
	Origin string        `json:"origin,omitempty"`
}

// Bundle is the template with all that it embeds.
func (t Template) Bundle() lang.Bundle {
	return lang.Bundle{File: t.Name + "@" + t.Version, Source: t.Source, Parts: t.Parts}
}

func templateOf(t store.Template) Template {
	return Template{t.Name, t.Version, t.Title, t.About, t.Maturity, t.Takes, t.Digest, t.PublishedAt, "", nil, t.Origin}
}

// Templates lists the newest version of every template.
func (s *Service) Templates(ctx context.Context) ([]Template, error) {
	all, err := s.store.Templates(ctx, "")
	if err != nil {
		return nil, err
	}
	out := []Template{}
	for _, t := range all {
		last := len(out) - 1
		if last >= 0 && out[last].Name == t.Name {
			if newer(t.Version, out[last].Version) {
				out[last] = templateOf(t)
			}
			continue
		}
		out = append(out, templateOf(t))
	}
	return out, nil
}

func sortNewestFirst(list []Template) {
	slices.SortStableFunc(list, func(a, b Template) int {
		switch {
		case newer(a.Version, b.Version):
			return -1
		case newer(b.Version, a.Version):
			return 1
		}
		return 0
	})
}

func newer(a, b string) bool {
	va, errA := semver.NewVersion(a)
	vb, errB := semver.NewVersion(b)
	return errA == nil && errB == nil && va.GreaterThan(vb)
}

// Template finds NAME (its newest version), NAME@VERSION or NAME@RANGE, with its text.
func (s *Service) Template(ctx context.Context, ref string) (Template, error) {
	name, wanted := splitVersion(ref)
	all, err := s.store.Templates(ctx, name)
	if err != nil {
		return Template{}, err
	}
	if len(all) == 0 {
		list, err := s.Templates(ctx)
		if err != nil {
			return Template{}, err
		}
		return Template{}, unknown("template", name, list, func(t Template) string { return t.Name }, "list them with: undersail templates")
	}
	versions := make([]string, len(all))
	for i, t := range all {
		versions[i] = t.Version
	}
	best, err := library.Newest(versions, wanted)
	if err != nil {
		return Template{}, refuse(Invalid, "write NAME@1.4.0 or NAME@^1", "%q is not a version", wanted)
	}
	if best < 0 {
		return Template{}, refuse(NotFound, "list them with: undersail templates", "template %s has no version %s", name, wanted)
	}
	t := templateOf(all[best])
	t.Source, t.Parts = all[best].Source, all[best].Parts
	return t, nil
}

// Publish checks a template and puts it into the library. A version once
// published never changes its bytes.
func (s *Service) Publish(ctx context.Context, u User, b lang.Bundle) (Template, lang.Diagnostics, error) {
	if err := u.must("publish"); err != nil {
		return Template{}, nil, err
	}
	b, err := s.resolve(ctx, b)
	if err != nil {
		return Template{}, nil, err
	}
	return s.publishBundle(ctx, b, "")
}

func (s *Service) publishBundle(ctx context.Context, b lang.Bundle, origin string) (Template, lang.Diagnostics, error) {
	t, found := lang.ReadBundle(b)
	if t == nil {
		return Template{}, found, &Error{Kind: Findings, Title: "the template has errors", Remedy: "mend them and publish again", Diagnostics: found}
	}
	row := store.Template{Name: t.About.Name, Version: t.About.Version, Title: t.About.Title, About: t.About.Text, Maturity: t.About.Maturity,
		Takes: t.About.Takes, Source: b.Source, Parts: b.Parts, Origin: origin, Digest: t.Digest}
	if err := s.store.PublishTemplate(ctx, row); err != nil {
		if errors.Is(err, store.ErrConflict) {
			return Template{}, found, refuse(Conflict, "raise the version in the template", "version %s of %s is published with other bytes", row.Version, row.Name)
		}
		return Template{}, found, err
	}
	return templateOf(row), found, nil
}
