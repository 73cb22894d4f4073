package api

import (
	"context"

	"undersail/internal/api/contract"
	"undersail/internal/proposing"
)

// handlers answers the operations of the contract. Errors travel to the central
// handler.
type handlers struct{ *Server }

var _ contract.StrictServerInterface = (*handlers)(nil)

func (h *handlers) ListAccounts(ctx context.Context,
	_ contract.ListAccountsRequestObject) (contract.ListAccountsResponseObject, error) {
	list, err := h.service.Accounts.List(ctx)
	return contract.ListAccounts200JSONResponse(list), err
}

func (h *handlers) AddAccount(ctx context.Context,
	r contract.AddAccountRequestObject) (contract.AddAccountResponseObject, error) {
	a, err := h.service.Accounts.Add(ctx, userOf(ctx), *r.Body)
	return contract.AddAccount201JSONResponse(a), err
}

func (h *handlers) GetOffers(ctx context.Context,
	r contract.GetOffersRequestObject) (contract.GetOffersResponseObject, error) {
	o, err := h.service.Accounts.Offers(ctx, r.Account, r.Params.Region, or(r.Params.Refresh, false))
	return contract.GetOffers200JSONResponse(o), err
}

func (h *handlers) ListTemplates(ctx context.Context,
	_ contract.ListTemplatesRequestObject) (contract.ListTemplatesResponseObject, error) {
	list, err := h.service.Templates.List(ctx)
	return contract.ListTemplates200JSONResponse(list), err
}

func (h *handlers) PublishTemplate(ctx context.Context,
	r contract.PublishTemplateRequestObject) (contract.PublishTemplateResponseObject, error) {
	t, _, err := h.service.Templates.Publish(ctx, userOf(ctx), *r.Body)
	return contract.PublishTemplate201JSONResponse(t), err
}

func (h *handlers) GetTemplate(ctx context.Context,
	r contract.GetTemplateRequestObject) (contract.GetTemplateResponseObject, error) {
	t, err := h.service.Templates.Find(ctx, r.Ref)
	return contract.GetTemplate200JSONResponse(t), err
}

func (h *handlers) RunCases(ctx context.Context,
	r contract.RunCasesRequestObject) (contract.RunCasesResponseObject, error) {
	runs, err := h.service.Templates.Cases(ctx, r.Ref)
	return contract.RunCases200JSONResponse(runs), err
}

func (h *handlers) SaveCases(ctx context.Context,
	r contract.SaveCasesRequestObject) (contract.SaveCasesResponseObject, error) {
	runs, err := h.service.Templates.SaveCases(ctx, userOf(ctx), r.Ref, *r.Body)
	return contract.SaveCases200JSONResponse(runs), err
}

func (h *handlers) ListVersions(ctx context.Context,
	r contract.ListVersionsRequestObject) (contract.ListVersionsResponseObject, error) {
	list, err := h.service.Templates.Versions(ctx, r.Ref)
	return contract.ListVersions200JSONResponse(list), err
}

func (h *handlers) ListLibraries(ctx context.Context,
	_ contract.ListLibrariesRequestObject) (contract.ListLibrariesResponseObject, error) {
	list, err := h.service.Templates.Libraries(ctx)
	return contract.ListLibraries200JSONResponse(list), err
}

func (h *handlers) AddLibrary(ctx context.Context,
	r contract.AddLibraryRequestObject) (contract.AddLibraryResponseObject, error) {
	l, err := h.service.Templates.AddLibrary(ctx, userOf(ctx), *r.Body)
	return contract.AddLibrary201JSONResponse(l), err
}

func (h *handlers) RefreshLibrary(ctx context.Context,
	r contract.RefreshLibraryRequestObject) (contract.RefreshLibraryResponseObject, error) {
	l, err := h.service.Templates.RefreshLibrary(ctx, userOf(ctx), r.Name)
	return contract.RefreshLibrary200JSONResponse(l), err
}

func (h *handlers) ListProposals(ctx context.Context,
	r contract.ListProposalsRequestObject) (contract.ListProposalsResponseObject, error) {
	list, err := h.service.Proposing.List(ctx, or(r.Params.Stack, ""), or(r.Params.Before, 0), or(r.Params.Limit, 50))
	return contract.ListProposals200JSONResponse(list), err
}

func (h *handlers) Propose(ctx context.Context,
	r contract.ProposeRequestObject) (contract.ProposeResponseObject, error) {
	p, err := h.service.Proposing.Propose(ctx, userOf(ctx), *r.Body)
	if err == nil && p.State == proposing.Nothing {
		return contract.Propose200JSONResponse(p), nil
	}
	return contract.Propose201JSONResponse(p), err
}

func (h *handlers) GetProposal(ctx context.Context,
	r contract.GetProposalRequestObject) (contract.GetProposalResponseObject, error) {
	p, err := h.service.Proposing.Show(ctx, r.Id)
	return contract.GetProposal200JSONResponse(p), err
}

func (h *handlers) AcceptProposal(ctx context.Context,
	r contract.AcceptProposalRequestObject) (contract.AcceptProposalResponseObject, error) {
	p, err := h.service.Proposing.Agree(ctx, userOf(ctx), r.Id, proposing.Acceptance{
		Agree:     or(r.Params.Agree, nil),
		Comment:   or(r.Params.Comment, ""),
		OnFailure: string(or(r.Params.OnFailure, "")),
	})
	return contract.AcceptProposal200JSONResponse(p), err
}

func (h *handlers) RefuseProposal(ctx context.Context,
	r contract.RefuseProposalRequestObject) (contract.RefuseProposalResponseObject, error) {
	p, err := h.service.Proposing.Refuse(ctx, userOf(ctx), r.Id, r.Body.Why)
	return contract.RefuseProposal200JSONResponse(p), err
}

func (h *handlers) ApplyProposal(ctx context.Context,
	r contract.ApplyProposalRequestObject) (contract.ApplyProposalResponseObject, error) {
	run, err := h.service.Proposing.Apply(ctx, userOf(ctx), r.Id, string(or(r.Params.OnFailure, "")))
	return contract.ApplyProposal200JSONResponse(run), err
}

func (h *handlers) GetStackTemplate(ctx context.Context,
	r contract.GetStackTemplateRequestObject) (contract.GetStackTemplateResponseObject, error) {
	t, err := h.service.Stacks.Template(ctx, r.Name)
	return contract.GetStackTemplate200JSONResponse(t), err
}

func (h *handlers) ListKept(ctx context.Context,
	_ contract.ListKeptRequestObject) (contract.ListKeptResponseObject, error) {
	list, err := h.service.Proposing.Kept(ctx)
	return contract.ListKept200JSONResponse(list), err
}

func (h *handlers) GetQuiet(ctx context.Context,
	_ contract.GetQuietRequestObject) (contract.GetQuietResponseObject, error) {
	return contract.GetQuiet200JSONResponse(h.service.Stacks.Quiet(ctx)), nil
}

func (h *handlers) MoveKept(ctx context.Context,
	r contract.MoveKeptRequestObject) (contract.MoveKeptResponseObject, error) {
	k, err := h.service.Proposing.MoveKept(ctx, userOf(ctx), r.Body.Name, r.Body.To)
	return contract.MoveKept200JSONResponse(k), err
}

func (h *handlers) DiscardKept(ctx context.Context,
	r contract.DiscardKeptRequestObject) (contract.DiscardKeptResponseObject, error) {
	p, err := h.service.Proposing.Discard(ctx, userOf(ctx), r.Body.Name)
	return contract.DiscardKept201JSONResponse(p), err
}

func (h *handlers) UndoRun(ctx context.Context,
	r contract.UndoRunRequestObject) (contract.UndoRunResponseObject, error) {
	p, err := h.service.Proposing.Undo(ctx, userOf(ctx), r.Id)
	return contract.UndoRun201JSONResponse(p), err
}

func (h *handlers) RetryRun(ctx context.Context,
	r contract.RetryRunRequestObject) (contract.RetryRunResponseObject, error) {
	run, err := h.service.Stacks.Retry(ctx, userOf(ctx), r.Id, or(r.Params.Step, ""))
	return contract.RetryRun200JSONResponse(run), err
}

func (h *handlers) GiveValues(ctx context.Context,
	r contract.GiveValuesRequestObject) (contract.GiveValuesResponseObject, error) {
	run, err := h.service.Proposing.Give(ctx, userOf(ctx), r.Name, r.Body.Inputs)
	return contract.GiveValues200JSONResponse(run), err
}

func (h *handlers) ListRuns(ctx context.Context,
	r contract.ListRunsRequestObject) (contract.ListRunsResponseObject, error) {
	list, err := h.service.Stacks.Runs(ctx, or(r.Params.Stack, ""), or(r.Params.Before, 0), or(r.Params.Limit, 50))
	return contract.ListRuns200JSONResponse(list), err
}

func (h *handlers) GetRun(ctx context.Context, r contract.GetRunRequestObject) (contract.GetRunResponseObject, error) {
	run, err := h.service.Stacks.Run(ctx, r.Id)
	return contract.GetRun200JSONResponse(run), err
}

func (h *handlers) StopRun(ctx context.Context,
	r contract.StopRunRequestObject) (contract.StopRunResponseObject, error) {
	run, err := h.service.Stacks.Stop(ctx, userOf(ctx), r.Id)
	return contract.StopRun200JSONResponse(run), err
}

func (h *handlers) ListRunEvents(ctx context.Context,
	r contract.ListRunEventsRequestObject) (contract.ListRunEventsResponseObject, error) {
	list, err := h.service.Stacks.Events(ctx, r.Id, or(r.Params.After, 0), or(r.Params.Limit, 500))
	return contract.ListRunEvents200JSONResponse(list), err
}

func (h *handlers) ListRunEvidence(ctx context.Context,
	r contract.ListRunEvidenceRequestObject) (contract.ListRunEvidenceResponseObject, error) {
	list, err := h.service.Stacks.RunEvidence(ctx, r.Id, or(r.Params.Resource, ""))
	return contract.ListRunEvidence200JSONResponse(list), err
}

func (h *handlers) ListEvents(ctx context.Context,
	r contract.ListEventsRequestObject) (contract.ListEventsResponseObject, error) {
	next := or(r.Params.Cursor, "")
	list, places, err := h.service.Stacks.AllEvents(ctx, next, or(r.Params.Limit, 500))
	if n := len(places); n > 0 {
		next = places[n-1]
	}
	return contract.ListEvents200JSONResponse{Events: list, Cursor: next}, err
}

func (h *handlers) ListStacks(ctx context.Context,
	r contract.ListStacksRequestObject) (contract.ListStacksResponseObject, error) {
	list, err := h.service.Stacks.List(ctx, or(r.Params.After, ""), or(r.Params.Limit, 200))
	return contract.ListStacks200JSONResponse(list), err
}

func (h *handlers) GetStack(ctx context.Context,
	r contract.GetStackRequestObject) (contract.GetStackResponseObject, error) {
	st, err := h.service.Stacks.Show(ctx, r.Name)
	return contract.GetStack200JSONResponse(st), err
}

func (h *handlers) GetOutputs(ctx context.Context,
	r contract.GetOutputsRequestObject) (contract.GetOutputsResponseObject, error) {
	list, err := h.service.Stacks.Outputs(ctx, r.Name)
	return contract.GetOutputs200JSONResponse(list), err
}

func (h *handlers) VerifyStack(ctx context.Context,
	r contract.VerifyStackRequestObject) (contract.VerifyStackResponseObject, error) {
	v, err := h.service.Stacks.Verify(ctx, userOf(ctx), r.Name)
	return contract.VerifyStack200JSONResponse(v), err
}

func (h *handlers) ContinueStack(ctx context.Context,
	r contract.ContinueStackRequestObject) (contract.ContinueStackResponseObject, error) {
	p, err := h.service.Proposing.Continue(ctx, userOf(ctx), r.Name)
	if err == nil && p.State == proposing.Nothing {
		return contract.ContinueStack200JSONResponse(p), nil
	}
	return contract.ContinueStack201JSONResponse(p), err
}

func (h *handlers) RetireStack(ctx context.Context,
	r contract.RetireStackRequestObject) (contract.RetireStackResponseObject, error) {
	p, err := h.service.Proposing.RetireWith(ctx, userOf(ctx), r.Name, or(r.Params.Keep, nil),
		or(r.Params.LiftGuard, nil))
	return contract.RetireStack201JSONResponse(p), err
}

// or gives the value of an optional parameter, or what stands for it.
func or[T any](p *T, otherwise T) T {
	if p == nil {
		return otherwise
	}
	return *p
}

func (h *handlers) ListAgreements(ctx context.Context,
	_ contract.ListAgreementsRequestObject) (contract.ListAgreementsResponseObject, error) {
	list, err := h.service.Proposing.Agreements(ctx, userOf(ctx))
	return contract.ListAgreements200JSONResponse(list), err
}

func (h *handlers) EndAgreement(ctx context.Context,
	r contract.EndAgreementRequestObject) (contract.EndAgreementResponseObject, error) {
	return contract.EndAgreement204Response{}, h.service.Proposing.EndAgreement(ctx, userOf(ctx), r.Id)
}
