package api

import (
	"context"
	"html"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"undersail/internal/api/contract"
)

func (h *handlers) SignIn(ctx context.Context, r contract.SignInRequestObject) (contract.SignInResponseObject, error) {
	a := askerOf(ctx)
	u, session, err := h.service.People.SignIn(ctx, r.Body.Name, r.Body.Password, a.from(or(r.Body.Terminal, false)))
	if err == nil {
		h.signIn(a.answer, session)
	}
	return contract.SignIn200JSONResponse{Body: u}, err
}

func (h *handlers) SignOut(ctx context.Context,
	_ contract.SignOutRequestObject) (contract.SignOutResponseObject, error) {
	a := askerOf(ctx)
	if err := h.service.People.SignOut(ctx, a.token); err != nil {
		return nil, err
	}
	h.setCookie(a.answer, "session", "", -1, http.SameSiteStrictMode)
	return contract.SignOut204Response{}, nil
}

func (h *handlers) GetMe(ctx context.Context, _ contract.GetMeRequestObject) (contract.GetMeResponseObject, error) {
	return contract.GetMe200JSONResponse(userOf(ctx).Myself()), nil
}

func (h *handlers) ChangePassword(ctx context.Context,
	r contract.ChangePasswordRequestObject) (contract.ChangePasswordResponseObject, error) {
	a := askerOf(ctx)
	return contract.ChangePassword204Response{}, h.service.People.ChangePassword(ctx, a.user, r.Body.Before,
		r.Body.After, a.token, a.from(false))
}

func (h *handlers) LookAtInvitation(ctx context.Context,
	r contract.LookAtInvitationRequestObject) (contract.LookAtInvitationResponseObject, error) {
	p, err := h.service.People.LookAtInvitation(ctx, r.Body.Code)
	return contract.LookAtInvitation200JSONResponse(p), err
}

func (h *handlers) TakeInvitation(ctx context.Context,
	r contract.TakeInvitationRequestObject) (contract.TakeInvitationResponseObject, error) {
	a := askerOf(ctx)
	u, session, err := h.service.People.TakeInvitation(ctx, r.Body.Code, r.Body.Password, or(r.Body.FullName, ""),
		a.from(or(r.Body.Terminal, false)))
	if err == nil {
		h.signIn(a.answer, session)
	}
	return contract.TakeInvitation200JSONResponse{Body: u}, err
}

func (h *handlers) BeginTerminal(ctx context.Context,
	_ contract.BeginTerminalRequestObject) (contract.BeginTerminalResponseObject, error) {
	t, err := h.service.People.BeginTerminal(ctx, askerOf(ctx).address)
	return contract.BeginTerminal200JSONResponse(t), err
}

func (h *handlers) AskTerminal(ctx context.Context,
	r contract.AskTerminalRequestObject) (contract.AskTerminalResponseObject, error) {
	a := askerOf(ctx)
	u, session, err := h.service.People.AskTerminal(ctx, r.Body.Handle, a.from(true))
	if err == nil {
		h.signIn(a.answer, session)
	}
	return contract.AskTerminal200JSONResponse{Body: u}, err
}

func (h *handlers) SignInPipeline(ctx context.Context,
	r contract.SignInPipelineRequestObject) (contract.SignInPipelineResponseObject, error) {
	t, err := h.service.People.SignInPipeline(ctx, r.Body.IdToken, askerOf(ctx).from(true))
	return contract.SignInPipeline201JSONResponse(t), err
}

func (h *handlers) ListUsers(ctx context.Context,
	_ contract.ListUsersRequestObject) (contract.ListUsersResponseObject, error) {
	list, err := h.service.People.List(ctx, userOf(ctx))
	return contract.ListUsers200JSONResponse(list), err
}

func (h *handlers) InviteUser(ctx context.Context,
	r contract.InviteUserRequestObject) (contract.InviteUserResponseObject, error) {
	i, err := h.service.People.Invite(ctx, userOf(ctx), *r.Body)
	return contract.InviteUser201JSONResponse(i), err
}

func (h *handlers) ChangeUser(ctx context.Context,
	r contract.ChangeUserRequestObject) (contract.ChangeUserResponseObject, error) {
	p, err := h.service.People.Change(ctx, userOf(ctx), r.Name, *r.Body)
	return contract.ChangeUser200JSONResponse(p), err
}

func (h *handlers) LinkUser(ctx context.Context,
	r contract.LinkUserRequestObject) (contract.LinkUserResponseObject, error) {
	i, err := h.service.People.InviteAgain(ctx, userOf(ctx), r.Name)
	return contract.LinkUser201JSONResponse(i), err
}

func (h *handlers) SignOutEverywhere(ctx context.Context,
	r contract.SignOutEverywhereRequestObject) (contract.SignOutEverywhereResponseObject, error) {
	return contract.SignOutEverywhere204Response{}, h.service.People.SignOutEverywhere(ctx, userOf(ctx), r.Name,
		or(r.Params.Tokens, false))
}

func (h *handlers) ListTokens(ctx context.Context,
	r contract.ListTokensRequestObject) (contract.ListTokensResponseObject, error) {
	list, err := h.service.People.Tokens(ctx, userOf(ctx), or(r.Params.Owner, ""))
	return contract.ListTokens200JSONResponse(list), err
}

func (h *handlers) AddToken(ctx context.Context,
	r contract.AddTokenRequestObject) (contract.AddTokenResponseObject, error) {
	t, err := h.service.People.AddToken(ctx, userOf(ctx), *r.Body)
	return contract.AddToken201JSONResponse(t), err
}

func (h *handlers) RevokeToken(ctx context.Context,
	r contract.RevokeTokenRequestObject) (contract.RevokeTokenResponseObject, error) {
	return contract.RevokeToken204Response{}, h.service.People.RevokeToken(ctx, userOf(ctx), r.Id)
}

// openidLife is how long a browser may take to come back from the provider.
const openidLife = 10 * time.Minute

// beginOpenID sends a browser to the provider. What it keeps meanwhile must come back with
// it from another site, so that cookie is lax.
func (s *Server) beginOpenID(c *echo.Context) error {
	to, keep, err := s.service.People.BeginOpenID(c.Request().Context(), s.addressOf(c.Request()))
	if err != nil {
		return err
	}
	s.setCookie(c.Response(), "openid", keep, openidLife, http.SameSiteLaxMode)
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Redirect(http.StatusSeeOther, to)
}

// finishOpenID signs in whoever comes back. The session's cookie is not sent on the way from
// another site, so the page that is answered goes on by itself.
func (s *Server) finishOpenID(c *echo.Context) error {
	keep := ""
	if cookie, err := c.Request().Cookie(s.cookieName("openid")); err == nil {
		keep = cookie.Value
	}
	q := c.Request().URL.Query()
	_, session, err := s.service.People.FinishOpenID(c.Request().Context(), keep, q.Get("state"), q.Get("code"),
		s.addressOf(c.Request()))
	s.setCookie(c.Response(), "openid", "", -1, http.SameSiteLaxMode)
	c.Response().Header().Set("Cache-Control", "no-store")
	if err != nil {
		return s.backToSignIn(c, err)
	}
	s.signIn(c.Response(), session)
	return c.HTML(http.StatusOK, onward("/stacks", "You are signed in."))
}

// backToSignIn lets the page for signing in say why it did not work.
func (s *Server) backToSignIn(c *echo.Context, err error) error {
	said := problemOf(err)
	if said.Status >= http.StatusInternalServerError {
		s.Log.Error("signing in by OpenID Connect", "error", err)
	}
	text := said.Title
	if said.Remedy != nil {
		text += ": " + *said.Remedy
	}
	return c.HTML(said.Status,
		`<!doctype html><html lang="en"><meta charset="utf-8"><title>Under Sail</title><p>`+html.EscapeString(text)+
			`</p><p><a href="/sign-in">Sign in</a></p></html>`)
}

func onward(to, text string) string {
	return `<!doctype html><html lang="en"><meta charset="utf-8"><meta http-equiv="refresh" content="0;url=` + to +
		`"><title>Under Sail</title><p>` + text + ` <a href="` + to + `">Go on</a></p></html>`
}
