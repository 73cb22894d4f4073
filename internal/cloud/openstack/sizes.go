package openstack

import (
	"context"
	"fmt"

	"undersail/internal/cloud"
	"undersail/internal/core/resource"
)

// resized gives a server another size. It is then on trial, until the checks say that it
// stays; see Confirm and Revert.
func (w *work) resized(ctx context.Context, s *thing) (cloud.Progress, error) {
	size, asked := w.task.Want["size"].(string)
	switch {
	case s.Status == "RESIZE" || s.Task != "":
		return w.more(ctx)
	case !asked || s.Flavor.Name == size:
		return w.done(ctx)
	case s.Status == "VERIFY_RESIZE": // an earlier one that nobody confirmed
		if err := w.act(ctx, "server", s.ID, map[string]any{"confirmResize": nil}); err != nil {
			return cloud.Progress{}, fmt.Errorf("confirm the size before: %w", err)
		}
		return w.more(ctx)
	}
	flavor, err := w.a.flavorID(ctx, w.ref.Region, size)
	if err != nil {
		return cloud.Progress{}, err
	}
	if err := w.act(ctx, "server", s.ID, map[string]any{"resize": map[string]any{"flavorRef": flavor}}); err != nil {
		return cloud.Progress{}, fmt.Errorf("change its size: %w", err)
	}
	return w.more(ctx)
}

// Confirm keeps what a machine was altered to and is on trial with.
func (a *Adapter) Confirm(ctx context.Context, ref cloud.Ref) error {
	_, err := a.settle(ctx, ref, "confirmResize")
	return err
}

// Revert gives a machine back what it had before.
func (a *Adapter) Revert(ctx context.Context, ref cloud.Ref) ([]string, error) {
	did, err := a.settle(ctx, ref, "revertResize")
	if !did || err != nil {
		return nil, err
	}
	return []string{"size"}, nil
}

// settle ends a trial. Machines alone have any.
func (a *Adapter) settle(ctx context.Context, ref cloud.Ref, action string) (bool, error) {
	if ref.Type != resource.TypeInstance {
		return false, nil
	}
	s, err := a.find(ctx, ref, "server", ref.Token)
	if err != nil || s == nil || s.Status != "VERIFY_RESIZE" {
		return false, err
	}
	w := &work{a: a, ref: ref}
	return true, w.act(ctx, "server", s.ID, map[string]any{action: nil})
}
