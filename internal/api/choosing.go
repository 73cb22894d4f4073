package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"undersail/internal/api/contract"
	"undersail/internal/refusal"
	"undersail/internal/review"
)

func (h *handlers) LimitAccount(ctx context.Context,
	r contract.LimitAccountRequestObject) (contract.LimitAccountResponseObject, error) {
	a, err := h.service.Accounts.Limit(ctx, userOf(ctx), r.Account, r.Body.MostMonth)
	return contract.LimitAccount200JSONResponse(a), err
}

func (h *handlers) ListRanges(ctx context.Context,
	r contract.ListRangesRequestObject) (contract.ListRangesResponseObject, error) {
	list, err := h.service.Accounts.Ranges(ctx, r.Account)
	return contract.ListRanges200JSONResponse(list), err
}

func (h *handlers) DeclareRange(ctx context.Context,
	r contract.DeclareRangeRequestObject) (contract.DeclareRangeResponseObject, error) {
	list, err := h.service.Accounts.DeclareRange(ctx, userOf(ctx), r.Account, r.Body.Range, or(r.Body.About, ""))
	return contract.DeclareRange200JSONResponse(list), err
}

func (h *handlers) RemoveRange(ctx context.Context,
	r contract.RemoveRangeRequestObject) (contract.RemoveRangeResponseObject, error) {
	list, err := h.service.Accounts.RemoveRange(ctx, userOf(ctx), r.Account, r.Params.Range)
	return contract.RemoveRange200JSONResponse(list), err
}

func (h *handlers) DrawAddresses(ctx context.Context,
	r contract.DrawAddressesRequestObject) (contract.DrawAddressesResponseObject, error) {
	m, err := h.service.Accounts.Addresses(ctx, r.Account, r.Params.Region, or(r.Params.Length, 0))
	return contract.DrawAddresses200JSONResponse(m), err
}

func (h *handlers) FitNeed(ctx context.Context,
	r contract.FitNeedRequestObject) (contract.FitNeedResponseObject, error) {
	found, err := h.service.Proposing.Fit(ctx, *r.Body)
	return contract.FitNeed200JSONResponse(found), err
}

func (h *handlers) FitTemplate(ctx context.Context,
	r contract.FitTemplateRequestObject) (contract.FitTemplateResponseObject, error) {
	c, err := h.service.Proposing.FitTemplate(ctx, *r.Body)
	return contract.FitTemplate200JSONResponse(c), err
}

func (h *handlers) CompareVariants(ctx context.Context,
	r contract.CompareVariantsRequestObject) (contract.CompareVariantsResponseObject, error) {
	c, err := h.service.Proposing.Compare(ctx, *r.Body)
	return contract.CompareVariants200JSONResponse(c), err
}

func (h *handlers) CheckForm(ctx context.Context,
	r contract.CheckFormRequestObject) (contract.CheckFormResponseObject, error) {
	a, err := h.service.Proposing.Check(ctx, userOf(ctx), *r.Body)
	return contract.CheckForm200JSONResponse(a), err
}

func (h *handlers) ListChoices(ctx context.Context,
	r contract.ListChoicesRequestObject) (contract.ListChoicesResponseObject, error) {
	list, err := h.service.Proposing.Choices(ctx, *r.Body, r.Input)
	return contract.ListChoices200JSONResponse(list), err
}

func (h *handlers) ListDrafts(ctx context.Context,
	_ contract.ListDraftsRequestObject) (contract.ListDraftsResponseObject, error) {
	list, err := h.service.Proposing.Drafts(ctx, userOf(ctx))
	return contract.ListDrafts200JSONResponse(list), err
}

func (h *handlers) AddDraft(ctx context.Context,
	r contract.AddDraftRequestObject) (contract.AddDraftResponseObject, error) {
	d, err := h.service.Proposing.AddDraft(ctx, userOf(ctx), *r.Body)
	return contract.AddDraft201JSONResponse(d), err
}

func (h *handlers) GetDraft(ctx context.Context,
	r contract.GetDraftRequestObject) (contract.GetDraftResponseObject, error) {
	d, err := h.service.Proposing.Draft(ctx, userOf(ctx), r.Id, or(r.Params.Graph, ""))
	return contract.GetDraft200JSONResponse(d), err
}

// draftRevision reads the revision that If-Match names.
func draftRevision(match string) (int64, error) {
	revision, err := strconv.ParseInt(strings.Trim(match, `"`), 10, 64)
	if err != nil {
		return 0, &refusal.Error{
			Kind:   refusal.Invalid,
			Title:  "If-Match names no revision of a draft",
			Remedy: "send the revision that you changed",
		}
	}
	return revision, nil
}

func (h *handlers) ChangeDraft(ctx context.Context,
	r contract.ChangeDraftRequestObject) (contract.ChangeDraftResponseObject, error) {
	revision, err := draftRevision(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	patch, err := json.Marshal(r.Body)
	if err != nil {
		return nil, fmt.Errorf("changing the draft: %w", err)
	}
	d, err := h.service.Proposing.ChangeDraft(ctx, userOf(ctx), r.Id, revision, patch, or(r.Params.Graph, ""))
	return contract.ChangeDraft200JSONResponse(d), err
}

func (h *handlers) RemoveDraft(ctx context.Context,
	r contract.RemoveDraftRequestObject) (contract.RemoveDraftResponseObject, error) {
	return contract.RemoveDraft204Response{}, h.service.Proposing.RemoveDraft(ctx, userOf(ctx), r.Id)
}

func (h *handlers) ListDraftPlaces(ctx context.Context,
	r contract.ListDraftPlacesRequestObject) (contract.ListDraftPlacesResponseObject, error) {
	list, err := h.service.Proposing.DraftPlaces(ctx, userOf(ctx), r.Id)
	return contract.ListDraftPlaces200JSONResponse(list), err
}

func (h *handlers) CompareDraftPresets(ctx context.Context,
	r contract.CompareDraftPresetsRequestObject) (contract.CompareDraftPresetsResponseObject, error) {
	c, err := h.service.Proposing.DraftPresets(ctx, userOf(ctx), r.Id)
	return contract.CompareDraftPresets200JSONResponse(c), err
}

func (h *handlers) ProposeDraft(ctx context.Context,
	r contract.ProposeDraftRequestObject) (contract.ProposeDraftResponseObject, error) {
	revision, err := draftRevision(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	p, err := h.service.Proposing.ProposeDraft(ctx, userOf(ctx), r.Id, revision)
	return contract.ProposeDraft201JSONResponse(p), err
}

func (h *handlers) SealForDraft(ctx context.Context,
	r contract.SealForDraftRequestObject) (contract.SealForDraftResponseObject, error) {
	d, err := h.service.Proposing.SealForDraft(ctx, userOf(ctx), r.Id, r.Input, *r.Body)
	return contract.SealForDraft200JSONResponse(d), err
}

func (h *handlers) TryDraftSecret(ctx context.Context,
	r contract.TryDraftSecretRequestObject) (contract.TryDraftSecretResponseObject, error) {
	list, err := h.service.Proposing.TrySecret(ctx, userOf(ctx), r.Id, r.Input, *r.Body)
	return contract.TryDraftSecret200JSONResponse(list), err
}

func (h *handlers) FitEverywhere(ctx context.Context,
	r contract.FitEverywhereRequestObject) (contract.FitEverywhereResponseObject, error) {
	list, err := h.service.Proposing.Everywhere(ctx, *r.Body)
	return contract.FitEverywhere200JSONResponse(list), err
}

func (h *handlers) GetMyAddress(ctx context.Context,
	_ contract.GetMyAddressRequestObject) (contract.GetMyAddressResponseObject, error) {
	return contract.GetMyAddress200JSONResponse{Address: askerOf(ctx).address}, nil
}

func (h *handlers) GetLanguage(context.Context,
	contract.GetLanguageRequestObject) (contract.GetLanguageResponseObject, error) {
	return contract.GetLanguage200JSONResponse(h.service.Templates.Language()), nil
}

func (h *handlers) CheckTemplate(ctx context.Context,
	r contract.CheckTemplateRequestObject) (contract.CheckTemplateResponseObject, error) {
	c, err := h.service.Templates.CheckText(ctx, *r.Body)
	return contract.CheckTemplate200JSONResponse(c), err
}

func (h *handlers) StartTemplate(_ context.Context,
	r contract.StartTemplateRequestObject) (contract.StartTemplateResponseObject, error) {
	b, err := h.service.Templates.StartText(*r.Body)
	return contract.StartTemplate200JSONResponse{File: b.File, Source: b.Source}, err
}

func (h *handlers) CompareVersions(ctx context.Context,
	r contract.CompareVersionsRequestObject) (contract.CompareVersionsResponseObject, error) {
	list, err := h.service.Templates.TemplateDifferences(ctx, r.Ref, r.Params.From)
	return contract.CompareVersions200JSONResponse(list), err
}

func (h *handlers) RenewProposal(ctx context.Context,
	r contract.RenewProposalRequestObject) (contract.RenewProposalResponseObject, error) {
	p, err := h.service.Proposing.Renew(ctx, userOf(ctx), r.Id)
	return contract.RenewProposal201JSONResponse(p), err
}

func (h *handlers) WriteProposal(ctx context.Context,
	r contract.WriteProposalRequestObject) (contract.WriteProposalResponseObject, error) {
	p, err := h.service.Proposing.Show(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	review.Markdown(&b, p)
	return contract.WriteProposal200TextmarkdownResponse{Body: &b, ContentLength: int64(b.Len())}, nil
}

func (h *handlers) DraftProposal(ctx context.Context,
	r contract.DraftProposalRequestObject) (contract.DraftProposalResponseObject, error) {
	d, err := h.service.Proposing.DraftOfProposal(ctx, userOf(ctx), r.Id)
	return contract.DraftProposal201JSONResponse(d), err
}

func (h *handlers) ListDraftChoices(ctx context.Context,
	r contract.ListDraftChoicesRequestObject) (contract.ListDraftChoicesResponseObject, error) {
	list, err := h.service.Proposing.DraftChoices(ctx, userOf(ctx), r.Id, r.Input)
	return contract.ListDraftChoices200JSONResponse(list), err
}

func (h *handlers) ListPolicies(ctx context.Context,
	_ contract.ListPoliciesRequestObject) (contract.ListPoliciesResponseObject, error) {
	list, err := h.service.Templates.Policies(ctx)
	return contract.ListPolicies200JSONResponse(list), err
}

func (h *handlers) AddPolicy(ctx context.Context,
	r contract.AddPolicyRequestObject) (contract.AddPolicyResponseObject, error) {
	p, err := h.service.Templates.AddPolicy(ctx, userOf(ctx), *r.Body)
	return contract.AddPolicy201JSONResponse(p), err
}

func (h *handlers) TryPolicy(ctx context.Context,
	r contract.TryPolicyRequestObject) (contract.TryPolicyResponseObject, error) {
	list, err := h.service.Stacks.TryPolicy(ctx, userOf(ctx), r.Body.Policy, r.Body.Stacks)
	return contract.TryPolicy200JSONResponse(list), err
}

func (h *handlers) ListPolicyVersions(ctx context.Context,
	r contract.ListPolicyVersionsRequestObject) (contract.ListPolicyVersionsResponseObject, error) {
	list, err := h.service.Templates.PolicyVersions(ctx, r.Name)
	return contract.ListPolicyVersions200JSONResponse(list), err
}

func (h *handlers) RemovePolicy(ctx context.Context,
	r contract.RemovePolicyRequestObject) (contract.RemovePolicyResponseObject, error) {
	return contract.RemovePolicy204Response{}, h.service.Templates.RemovePolicy(ctx, userOf(ctx), r.Name)
}

func (h *handlers) GetCost(ctx context.Context,
	r contract.GetCostRequestObject) (contract.GetCostResponseObject, error) {
	c, err := h.service.Stacks.Cost(ctx, r.Name)
	return contract.GetCost200JSONResponse(c), err
}
