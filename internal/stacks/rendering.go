package stacks

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jellydator/ttlcache/v3"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/store"
	"undersail/internal/templates"
)

// rendered renders a stack with everything that it reports now. A template that
// reads offers is rendered with those that the stack was last applied with. It is kept as
// long as nothing it rests on changes, and is not to be altered.
func (s *Stacks) rendered(ctx context.Context, st store.Stack,
	resources []store.Resource) (out *render.Rendering, err error) {
	request, key, err := s.renderedFrom(ctx, st, resources)
	if err != nil {
		return nil, err
	}
	if known := s.renderings.Get(key); known != nil {
		return known.Value(), nil
	}
	if request, err = s.withOffers(ctx, st, request); err != nil {
		return nil, err
	}
	err = s.turns.Compute(ctx, func(b *budget.Budget) {
		out = render.Render(b, request)
	})
	if err == nil {
		s.renderings.Set(key, out, ttlcache.NoTTL)
	}
	return out, err
}

// session renders a stack as it is now, for values that are about to be sent.
func (s *Stacks) session(ctx context.Context, st store.Stack,
	resources []store.Resource) (out *render.Session, err error) {
	request, _, err := s.renderedFrom(ctx, st, resources)
	if err != nil {
		return nil, err
	}
	if request, err = s.withOffers(ctx, st, request); err != nil {
		return nil, err
	}
	err = s.turns.Compute(ctx, func(b *budget.Budget) {
		out, _ = render.Accept(b, request)
	})
	return out, err
}

// withOffers adds the offers that a stack was last applied with, where its template reads
// them.
func (s *Stacks) withOffers(ctx context.Context, st store.Stack, request render.Request) (render.Request, error) {
	if !request.Template.UsesOffers {
		return request, nil
	}
	d, err := s.LastDocument(ctx, st.ID)
	request.Offers = &d.Offers
	return request, err
}

// renderedFrom is everything that the rendering of a stack rests on, and a name of it.
func (s *Stacks) renderedFrom(ctx context.Context, st store.Stack,
	resources []store.Resource) (request render.Request, key string, err error) {
	t, found := templates.Read(bundleOf(st))
	if t == nil {
		return request, "", found
	}
	account, err := s.store.Account(ctx, st.Account)
	if err != nil {
		return request, "", fmt.Errorf("reading account %s: %w", st.Account, err)
	}
	request = render.Request{
		Template: t,
		Stack: render.Stack{
			Name:    st.Name,
			ID:      st.ID,
			Account: st.Account,
			Cloud:   st.Cloud,
			Region:  st.Region,
			Tags:    account.Tags,
		},
		Inputs:  st.Inputs,
		Secrets: st.Secrets,
		Stacks:  st.Reads,
	}
	var from int64 // the run whose offers are read
	if t.UsesOffers {
		last, err := s.store.LastRun(ctx, st.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return request, "", err
		}
		from = last.ID
	}
	if key, err = nameOf(t.Digest, from, request, st.Found, resources); err != nil {
		return request, "", err
	}
	known := map[string]map[string]any{}
	for _, r := range resources {
		if r.MadeAt != nil {
			known[r.Name] = r.Attributes
		}
	}
	request.Known = func(r render.Resource) map[string]any {
		if found, ok := st.Found[r.Name]; ok {
			return found
		}
		return known[r.Name]
	}
	return request, key, nil
}

// nameOf names everything that the rendering of a stack rests on.
func nameOf(digest string, run int64, q render.Request, found map[string]map[string]any,
	resources []store.Resource) (string, error) {
	h := sha256.New()
	e := json.NewEncoder(h)
	if err := e.Encode([]any{digest, run, q.Stack, q.Inputs, q.Secrets, q.Stacks, found}); err != nil {
		return "", fmt.Errorf("read a stack: %w", err)
	}
	for _, r := range resources {
		if r.MadeAt != nil {
			if err := e.Encode([]any{r.Name, r.Attributes}); err != nil {
				return "", fmt.Errorf("read a stack: %w", err)
			}
		}
	}
	return string(h.Sum(nil)), nil
}

// bundleOf is the template that a stack was last applied with.
func bundleOf(st store.Stack) lang.Bundle {
	return lang.Bundle{File: st.TemplateName + ".sail.yaml", Source: st.TemplateSource, Parts: st.TemplateParts}
}

// Conduct is how the resources of a stack behave in changes, as the stack was
// last applied.
func (s *Stacks) Conduct(ctx context.Context, st store.Stack,
	recorded []store.Resource) (map[string]render.Resource, error) {
	out := map[string]render.Resource{}
	if st.TemplateSource == "" {
		return out, nil
	}
	r, err := s.rendered(ctx, st, recorded)
	if err != nil {
		return nil, err
	}
	for _, x := range r.Resources {
		out[x.Name] = x
	}
	return out, nil
}
