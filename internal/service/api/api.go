// Package api answers the calls of api/openapi.yaml, on Gin.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"synaxis/internal/contract"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/rollout"
	"synaxis/internal/service/agents"
	"synaxis/internal/service/assemble"
	"synaxis/internal/service/auth"
	"synaxis/internal/service/changes"
	"synaxis/internal/service/join"
	"synaxis/internal/service/membership"
	"synaxis/internal/service/rollouts"
	"synaxis/internal/service/store"
)

// BasePath is where the API begins.
const BasePath = "/api/v1"

// API is the strict server of the contract.
type API struct {
	*assemble.Owners
	Auth   *auth.Auth
	Events *Events
	Log    *slog.Logger
	Now    func() time.Time
	Join   *join.Join
	Until  time.Time // when the certificate of the service ends; zero without one

	secretsIn sync.Map // the secrets of a manifest, []string, by its hash
	trials    trials
}

// Bounds of a request's body, in bytes.
const (
	maxBody    = 64 << 20 // of what a person brings: definitions, lists, logs to try
	maxSignIn  = 4 << 10
	maxGranted = 1 << 20 // of the holder of a token for one secret
)

const identityKey = "synaxis.identity"

// Register adds the routes to a router.
func (a *API) Register(router gin.IRouter) {
	group := router.Group(BasePath, a.limit, a.authenticate)
	group.GET("/events", func(c *gin.Context) {
		if id := identity(c); !id.May(contract.MayLook, "") {
			a.fail(c, notAllowed{MayNot(id, contract.MayLook)})
			return
		}
		a.Events.serve(c)
	})
	handler := contract.NewStrictHandlerWithOptions(
		a,
		[]contract.StrictMiddlewareFunc{allow},
		contract.StrictGinServerOptions{
			RequestErrorHandlerFunc: a.badBody,
			HandlerErrorFunc:        a.fail,
			ResponseErrorHandlerFunc: func(c *gin.Context, err error) {
				a.Log.Error("an answer could not be written", "path", c.Request.URL.Path, "error", err)
			},
		},
	)
	contract.RegisterHandlersWithOptions(group, handler, contract.GinServerOptions{
		ErrorHandler: func(c *gin.Context, err error, _ int) { a.badBody(c, err) },
	})
}

func (a *API) limit(c *gin.Context) {
	most := int64(maxBody)
	switch {
	case signsIn(c):
		most = maxSignIn
	case strings.HasPrefix(c.GetHeader("Authorization"), "Bearer "+auth.GrantPrefix):
		most = maxGranted
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, most)
	if c.Request.ContentLength > most {
		c.Abort()
		a.badBody(c, &http.MaxBytesError{Limit: most})
	}
}

func signsIn(c *gin.Context) bool {
	return c.Request.Method == http.MethodPost && c.Request.URL.Path == BasePath+"/session"
}

// badBody answers parameters and a body that cannot be read. Whoever may set one secret only is not told what is wrong
// with another request.
func (a *API) badBody(c *gin.Context, err error) {
	if id := identity(c); id.Secret != "" && c.Request.URL.Path != BasePath+"/secrets/"+id.Secret {
		a.fail(c, notAllowed{MayNot(id, contract.MayLook)})
		return
	}
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		write(
			c,
			http.StatusRequestEntityTooLarge,
			contract.TooLarge,
			fmt.Sprintf("the body is larger than %d bytes", large.Limit),
			nil,
		)
		return
	}
	write(c, http.StatusBadRequest, contract.BadRequest, err.Error(), nil)
}

// authenticate lets nobody through but to the sign-in.
func (a *API) authenticate(c *gin.Context) {
	if signsIn(c) {
		return
	}
	id, err := a.Auth.Identify(c.Request)
	if err != nil {
		c.Abort()
		a.fail(c, err)
		return
	}
	c.Set(identityKey, id)
}

// allow lets nobody do what the table of rights does not let them do. It is asked before each operation.
func allow(next contract.StrictHandlerFunc, operation string) contract.StrictHandlerFunc {
	return func(c *gin.Context, request any) (any, error) {
		needs, ok := contract.RightsFor(operation)
		if !ok {
			return nil, notAllowed{fmt.Sprintf("%s has no row in the table of rights", operation)}
		}
		object := ""
		if r, ok := request.(contract.SetSecretRequestObject); ok {
			object = r.Secret
		}
		for _, right := range needs {
			if id := identity(c); !id.May(right, object) {
				return nil, notAllowed{MayNot(id, right)}
			}
		}
		return next(c, request)
	}
}

// MayNot says in words that somebody lacks a right.
func MayNot(id auth.Identity, right contract.Right) string {
	switch {
	case id.Secret != "":
		return fmt.Sprintf("this token lets %s set the secret %s and do nothing else", id.Who, id.Secret)
	case right == contract.MayReadHosts:
		return fmt.Sprintf("%s may not read lines from hosts, which is a right of its own", id.Who)
	}
	return fmt.Sprintf("%s may not do this; it needs the right %q", id.Who, right)
}

// notAllowed is a request of somebody who is known and may not do this.
type notAllowed struct{ words string }

func (n notAllowed) Error() string { return n.words }

func identity(ctx context.Context) auth.Identity {
	if c, ok := ctx.(*gin.Context); ok {
		if id, ok := c.Get(identityKey); ok {
			return id.(auth.Identity)
		}
	}
	return auth.Identity{}
}

// person is who makes a change, for the audit.
func person(ctx context.Context) store.Person {
	p := store.Person{Name: identity(ctx).Who}
	if c, ok := ctx.(*gin.Context); ok {
		p.Origin, _, _ = net.SplitHostPort(c.Request.RemoteAddr)
	}
	return p
}

// usage is a request that is wrong in itself.
type usage struct{ words string }

func (u usage) Error() string { return u.words }

// oneLine refuses a text that is not one line of at most so many bytes.
func oneLine(what, text string, most int) error {
	if why := inventory.CheckLine(text, most); why != "" {
		return usage{what + ": expected " + why}
	}
	return nil
}

// fail turns an error into a problem.
func (a *API) fail(c *gin.Context, err error) {
	var rejected changes.Rejected
	var conflict changes.Conflict
	var bad usage
	var invalid changes.Invalid
	var wrong rollouts.Invalid
	var stale changes.Stale
	var forbidden notAllowed
	var refused membership.Denied
	var away agents.Unreachable
	var unwilling agents.Refused
	switch {
	case errors.As(err, &stale):
		write(c, http.StatusPreconditionFailed, contract.Meanwhile, err.Error(), nil)
	case errors.As(err, &forbidden):
		write(c, http.StatusForbidden, contract.NotAllowed, err.Error(), nil)
	case errors.As(err, &refused):
		write(c, http.StatusConflict, contract.Conflicting, err.Error(), nil)
	case errors.As(err, &rejected):
		list := contract.FindingsOf(rejected.Findings)
		write(c, http.StatusUnprocessableEntity, contract.HasFindings, err.Error(), list)
	case errors.As(err, &conflict):
		write(c, http.StatusConflict, contract.Conflicting, err.Error(), nil)
	case errors.As(err, &away):
		write(c, http.StatusConflict, contract.HostUnreachable, err.Error(), nil)
	case errors.As(err, &unwilling):
		write(c, http.StatusUnprocessableEntity, contract.HostRefused, err.Error(), nil)
	case errors.Is(err, rollouts.ErrBusy):
		write(c, http.StatusConflict, contract.RolloutBusy, err.Error(), nil)
	case errors.Is(err, rollout.ErrNot):
		write(c, http.StatusConflict, contract.Conflicting, err.Error(), nil)
	case errors.Is(err, auth.ErrUnknown):
		write(c, http.StatusUnauthorized, contract.NotSignedIn, err.Error(), nil)
	case errors.Is(err, store.ErrNotFound):
		write(c, http.StatusNotFound, contract.NotFound, err.Error(), nil)
	case errors.As(err, &bad), errors.As(err, &invalid), errors.As(err, &wrong):
		write(c, http.StatusBadRequest, contract.BadRequest, err.Error(), nil)
	default:
		a.Log.Error("a request failed", "method", c.Request.Method, "path", c.Request.URL.Path, "error", err)
		write(c, http.StatusInternalServerError, contract.Internal, "the service could not do this; its log says why",
			nil)
	}
}

// write answers with a problem of RFC 9457.
func write(c *gin.Context, status int, code contract.Code, detail string, list []contract.Finding) {
	p := contract.Problem{
		Type:   "about:blank",
		Title:  http.StatusText(status),
		Status: status,
		Code:   string(code),
		Detail: detail,
	}
	if list != nil {
		p.Findings = &list
	}
	text, err := json.Marshal(p)
	if err != nil {
		text = []byte(`{}`)
	}
	c.Data(status, "application/problem+json", text)
}

// NotFound answers for paths below the API that do not exist.
func NotFound(c *gin.Context) {
	write(c, http.StatusNotFound, contract.NotFound, "there is nothing at "+c.Request.URL.Path, nil)
}

func optional[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

// GetSession tells who is signed in.
func (a *API) GetSession(
	ctx context.Context,
	_ contract.GetSessionRequestObject,
) (contract.GetSessionResponseObject, error) {
	id := identity(ctx)
	return contract.GetSession200JSONResponse{Who: id.Who, Expires: optional(id.Expires)}, nil
}

// CreateSession signs a browser in.
func (a *API) CreateSession(
	ctx context.Context,
	r contract.CreateSessionRequestObject,
) (contract.CreateSessionResponseObject, error) {
	secure := false
	if c, ok := ctx.(*gin.Context); ok {
		secure = c.Request.TLS != nil
		if o := c.Request.Header.Get("Origin"); o != "" && !strings.HasSuffix(o, "://"+c.Request.Host) {
			return nil, usage{"signing in works from the console only"}
		}
	}
	cookie, id, err := a.Auth.SignIn(ctx, value(r.Body.Token), value(r.Body.Code), person(ctx).Origin, secure)
	if err != nil {
		return nil, err
	}
	text := cookie.String()
	return contract.CreateSession200JSONResponse{Body: contract.Session{Who: id.Who, Expires: optional(id.Expires)},
		Headers: contract.CreateSession200ResponseHeaders{SetCookie: &text}}, nil
}

// DeleteSession signs out.
func (a *API) DeleteSession(
	ctx context.Context,
	_ contract.DeleteSessionRequestObject,
) (contract.DeleteSessionResponseObject, error) {
	cookie, err := a.Auth.SignOut(ctx, identity(ctx))
	if err != nil {
		return nil, err
	}
	text := cookie.String()
	return contract.DeleteSession204Response{Headers: contract.DeleteSession204ResponseHeaders{SetCookie: &text}}, nil
}

// CreateSignInLink makes a one-time link to the console.
func (a *API) CreateSignInLink(
	ctx context.Context,
	_ contract.CreateSignInLinkRequestObject,
) (contract.CreateSignInLinkResponseObject, error) {
	code, expires := a.Auth.NewCode()
	return contract.CreateSignInLink201JSONResponse{
		Url:     a.base(ctx) + "/sign-in#" + code,
		Code:    code,
		Expires: expires,
	}, nil
}

// base is the address under which the caller reaches the service.
func (a *API) base(ctx context.Context) string {
	c, ok := ctx.(*gin.Context)
	if !ok {
		return ""
	}
	return join.Base(c.Request)
}

// ListAudit lists changes by people.
func (a *API) ListAudit(
	ctx context.Context,
	r contract.ListAuditRequestObject,
) (contract.ListAuditResponseObject, error) {
	p := r.Params
	f := store.AuditFilter{
		Who:    value(p.Who),
		Action: value(p.Action),
		Object: value(p.Object),
		Text:   value(p.Text),
		Since:  value(p.Since),
		Until:  value(p.Until),
		Limit:  100,
	}
	if p.Limit != nil {
		f.Limit = min(max(*p.Limit, 1), 1000)
	}
	if p.After != nil {
		n, err := strconv.Atoi(*p.After)
		if err != nil || n < 1 {
			return nil, usage{fmt.Sprintf("after=%s is no cursor of this list", *p.After)}
		}
		f.Below = n
	}
	limit := f.Limit
	f.Limit++ // one more tells whether there is a next page
	list, err := a.Store.AuditEntries(ctx, f)
	if err != nil {
		return nil, err
	}
	out := contract.ListAudit200JSONResponse{Items: []contract.AuditEntry{}}
	for i, e := range list {
		if i == limit {
			out.Next = &out.Items[limit-1].Id
			break
		}
		out.Items = append(
			out.Items,
			contract.AuditEntry{
				Id:     strconv.Itoa(e.ID),
				At:     e.At,
				Who:    e.Who,
				Origin: e.Origin,
				Action: e.Action,
				Object: e.Object,
				Before: e.Before,
				After:  e.After,
			},
		)
	}
	return out, nil
}
