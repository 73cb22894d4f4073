package api

import (
	"context"

	"undersail/internal/api/contract"
	"undersail/internal/cloud/registry"
	"undersail/internal/store"
)

func (h *handlers) ShowAccount(ctx context.Context,
	r contract.ShowAccountRequestObject) (contract.ShowAccountResponseObject, error) {
	a, err := h.service.Accounts.Show(ctx, r.Account)
	return contract.ShowAccount200JSONResponse(a), err
}

func (h *handlers) ListClouds(context.Context,
	contract.ListCloudsRequestObject) (contract.ListCloudsResponseObject, error) {
	return contract.ListClouds200JSONResponse(registry.Kinds()), nil
}

func (h *handlers) BoundAccount(ctx context.Context,
	r contract.BoundAccountRequestObject) (contract.BoundAccountResponseObject, error) {
	a, err := h.service.Accounts.Bound(ctx, userOf(ctx), r.Account, *r.Body)
	return contract.BoundAccount200JSONResponse(a), err
}

func (h *handlers) RemoveAccount(ctx context.Context,
	r contract.RemoveAccountRequestObject) (contract.RemoveAccountResponseObject, error) {
	c, err := h.service.Accounts.Close(ctx, userOf(ctx), r.Account, or(r.Params.Why, ""), or(r.Params.Gone, false))
	return contract.RemoveAccount200JSONResponse(c), err
}

func (h *handlers) TestAccount(ctx context.Context,
	r contract.TestAccountRequestObject) (contract.TestAccountResponseObject, error) {
	a, err := h.service.Accounts.Test(ctx, userOf(ctx), r.Account)
	return contract.TestAccount200JSONResponse(a), err
}

func (h *handlers) RenewAccount(ctx context.Context,
	r contract.RenewAccountRequestObject) (contract.RenewAccountResponseObject, error) {
	a, err := h.service.Accounts.Renew(ctx, userOf(ctx), r.Account, r.Body.Credentials)
	return contract.RenewAccount200JSONResponse(a), err
}

func (h *handlers) ListSecrets(ctx context.Context,
	_ contract.ListSecretsRequestObject) (contract.ListSecretsResponseObject, error) {
	list, err := h.service.Secrets.List(ctx)
	return contract.ListSecrets200JSONResponse(list), err
}

func (h *handlers) PutSecret(ctx context.Context,
	r contract.PutSecretRequestObject) (contract.PutSecretResponseObject, error) {
	n, err := h.service.Secrets.Put(ctx, userOf(ctx), *r.Body)
	return contract.PutSecret201JSONResponse(n), err
}

func (h *handlers) ShowSecret(ctx context.Context,
	r contract.ShowSecretRequestObject) (contract.ShowSecretResponseObject, error) {
	n, err := h.service.Secrets.Show(ctx, r.Secret)
	return contract.ShowSecret200JSONResponse(n), err
}

func (h *handlers) RemoveSecret(ctx context.Context,
	r contract.RemoveSecretRequestObject) (contract.RemoveSecretResponseObject, error) {
	return contract.RemoveSecret204Response{}, h.service.Secrets.Remove(ctx, userOf(ctx), r.Secret)
}

func (h *handlers) Reveal(ctx context.Context, r contract.RevealRequestObject) (contract.RevealResponseObject, error) {
	v, err := h.service.Secrets.Reveal(ctx, userOf(ctx), *r.Body)
	return contract.Reveal200JSONResponse(v), err
}

func (h *handlers) ListAudit(ctx context.Context,
	r contract.ListAuditRequestObject) (contract.ListAuditResponseObject, error) {
	p := r.Params
	list, err := h.service.Journal.List(ctx, userOf(ctx), store.AuditQuery{
		Who:     or(p.Who, ""),
		Action:  or(p.Action, ""),
		Subject: or(p.Subject, ""),
		Before:  or(p.Before, 0),
		Limit:   or(p.Limit, 0),
	})
	return contract.ListAudit200JSONResponse(list), err
}

func (h *handlers) CheckAudit(ctx context.Context,
	r contract.CheckAuditRequestObject) (contract.CheckAuditResponseObject, error) {
	c, err := h.service.Journal.Check(ctx, userOf(ctx), or(r.Params.Head, ""))
	return contract.CheckAudit200JSONResponse(c), err
}

func (h *handlers) GetGuide(ctx context.Context,
	r contract.GetGuideRequestObject) (contract.GetGuideResponseObject, error) {
	g, err := h.service.Stacks.Guide(ctx, r.Name)
	return contract.GetGuide200JSONResponse(g), err
}

func (h *handlers) Connect(ctx context.Context,
	r contract.ConnectRequestObject) (contract.ConnectResponseObject, error) {
	c, err := h.service.Stacks.Connect(ctx, userOf(ctx), r.Name, *r.Body)
	return contract.Connect201JSONResponse(c), err
}

func (h *handlers) SignConnection(ctx context.Context,
	r contract.SignConnectionRequestObject) (contract.SignConnectionResponseObject, error) {
	s, err := h.service.Stacks.SignConnection(ctx, userOf(ctx), r.Id, *r.Body)
	return contract.SignConnection200JSONResponse(s), err
}
