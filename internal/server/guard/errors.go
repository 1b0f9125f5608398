package guard

import (
	"errors"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"ubiquon/internal/admission"
	"ubiquon/internal/api"
	"ubiquon/internal/authoring"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/delivery"
	"ubiquon/internal/files"
	"ubiquon/internal/identity"
	"ubiquon/internal/ingest"
	"ubiquon/internal/replication"
	configured "ubiquon/internal/settings"
	"ubiquon/internal/store/accounts"
	"ubiquon/internal/store/builds"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/store/runs"
	"ubiquon/internal/store/settings"
	"ubiquon/internal/store/writing"
)

// code is the problem that an error stands for.
type code struct {
	err    error
	kind   string
	status int
	// retryAfter is the value of Retry-After, in seconds; empty: none is sent.
	retryAfter string
	hint       string
	parameter  string
}

// fileStatus is the status of what keeps a file from being taken.
var fileStatus = map[string]int{
	"too-large": 413, "quota": 507, "broken-file": 422, "refused-file": 422, "scanner": 503, "fetch": 422,
}

// errorCodes are the errors that are known by identity. The first that an error is counts.
var errorCodes = []code{
	{err: db.ErrModelMoved, kind: "model-moved", status: 409},
	{err: access.ErrOneEntry, kind: "one-entry", status: 403},
	{err: access.ErrTooMany, kind: "too-many", status: 429, retryAfter: "10"},
	{
		err: authoring.ErrNotTaken, kind: "not-taken", status: 405,
		hint: "add submissions: {fields: […]} to the type in the model",
	},
	{err: identity.ErrWrongPassword, kind: "sign-in", status: 401},
	{err: accounts.ErrTooManyLinks, kind: "too-many", status: 429, retryAfter: "3600"},
	{err: accounts.ErrTaken, kind: "account", status: 409},
	{err: accounts.ErrLastAdmin, kind: "account", status: 409},
	{err: entries.ErrPast, kind: "moment", status: 422, parameter: "at"},
	{err: authoring.ErrMoment, kind: "moment", status: 422, parameter: "at"},
	{err: writing.ErrScheduleGone, kind: "not-pending", status: 409},
	{err: authoring.ErrBadLine, kind: "bad-line", status: 422},
	{err: db.ErrForeign, kind: "foreign", status: 409},
	{err: ingest.ErrConfigured, kind: "foreign", status: 409},
	{err: builds.ErrNotRunning, kind: "not-running", status: 409},
	{err: builds.ErrNotWaiting, kind: "not-running", status: 409},
	{err: runs.ErrNotFailed, kind: "not-running", status: 409},
	{
		err: settings.ErrVersion, kind: "setting-changed", status: 412,
		hint: "get it again, and make the change on that version",
	},
	{err: db.ErrNotFound, kind: "not-found", status: 404},
	{err: ingest.ErrUnknownOrigin, kind: "not-found", status: 404},
	{err: ingest.ErrNotPushed, kind: "not-pushed", status: 409},
	{err: db.ErrWriteTimeout, kind: "too-slow", status: 503, retryAfter: "2"},
	{err: db.ErrUnsure, kind: "too-slow", status: 503, retryAfter: "2"},
	{err: admission.ErrOverloaded, kind: "overloaded", status: 503, retryAfter: "2"},
	{
		err: delivery.ErrTooSlow, kind: "too-slow", status: 503,
		hint: "ask for less; filter and sort by fields that the model marks as indexed",
	},
	{err: delivery.ErrNotHeld, kind: "not-held", status: 504},
	{err: replication.ErrBehind, kind: "behind", status: 503, retryAfter: "1"},
}

// badKeys are the errors of secrets that are not good.
var badKeys = []error{
	access.ErrMalformed, identity.ErrUnknownKey, access.ErrExpired, access.ErrRevoked, access.ErrRotated,
	access.ErrPreviewOver, access.ErrPreviewRevoked,
}

// errorTypes are the errors that are known by type, in the order in which they are tried.
var errorTypes = []func(err error, h http.Header) (api.Problem, bool){
	as(func(e retryLater, h http.Header) api.Problem {
		h.Set("Retry-After", strconv.Itoa(max(1, int(math.Ceil(e.wait.Seconds())))))
		return e.Problem
	}),
	as(func(e api.Problem, _ http.Header) api.Problem { return e }),
	as(func(e *http.MaxBytesError, _ http.Header) api.Problem { return TooLargeProblem(e.Limit) }),
	as(func(e *api.BadParameterError, _ http.Header) api.Problem {
		return api.Problem{Kind: "body", Status: 400, Parameter: e.Parameter}
	}),
	as(func(e *query.Error, _ http.Header) api.Problem {
		if e.Parameter == PathItself {
			return api.Problem{Kind: "not-found", Status: 404, Detail: e.Detail, Hint: e.Hint}
		}
		return api.Problem{
			Kind: "parameter", Status: 400, Detail: e.Detail, Parameter: e.Parameter, At: e.At, Hint: e.Hint,
		}
	}),
	as(func(e *picture.Error, _ http.Header) api.Problem {
		return api.Problem{Kind: "picture", Status: 400, Detail: e.Detail, Hint: e.Hint}
	}),
	as(func(e *files.Problem, h http.Header) api.Problem {
		if e.Kind == "scanner" {
			h.Set("Retry-After", "30")
		}
		return api.Problem{Kind: e.Kind, Status: fileStatus[e.Kind], Detail: e.Reason}
	}),
	as(func(e *access.DeniedError, _ http.Header) api.Problem {
		p := api.Problem{
			Kind:   "grant",
			Status: 403,
			Grant:  e.Grant.String(),
			Hint:   access.GrantRemedy(e.Grant.String()),
		}
		if e.Everyone {
			p.Kind, p.Status = "no-key", 401
			p.Detail = fmt.Sprintf("this is not open to everyone; send a key that has the grant %q", e.Grant)
		}
		return p
	}),
	as(func(e *identity.TokenError, h http.Header) api.Problem {
		h.Set("WWW-Authenticate",
			`Bearer realm="ubiquon", error="invalid_token", error_description="`+e.Class+`"`)
		return api.Problem{Kind: "bad-key", Status: 401, Reason: e.Class}
	}),
	as(func(e content.Problems, _ http.Header) api.Problem {
		return api.Problem{Kind: "content", Status: 422, Problems: e}
	}),
	as(func(*writing.ConflictError, http.Header) api.Problem {
		return api.Problem{Kind: "conflict", Status: 412}
	}),
	as(func(e *writing.ReferredError, _ http.Header) api.Problem {
		return api.Problem{Kind: "referred", Status: 409, ReferredBy: e.By}
	}),
	as(func(e strictyaml.Mistakes, _ http.Header) api.Problem {
		return api.Problem{Kind: "model", Status: 422, Mistakes: e}
	}),
	as(func(e *writing.LossError, _ http.Header) api.Problem {
		return api.Problem{
			Kind: "loss", Status: 409, Consequences: e.Consequences,
			Hint: "apply it with allowLoss (on the command line: --allow-loss) if that is meant",
		}
	}),
	as(func(e *configured.InvalidError, _ http.Header) api.Problem {
		return api.Problem{Kind: "setting", Status: 422, Settings: e.Mistakes}
	}),
	as(func(*configured.InUseError, http.Header) api.Problem {
		return api.Problem{Kind: "referred", Status: 409}
	}),
	as(func(*authoring.ConflictingConfigError, http.Header) api.Problem {
		return api.Problem{Kind: "configuration", Status: 409}
	}),
}

// as makes an entry of errorTypes.
func as[E error](problem func(E, http.Header) api.Problem) func(error, http.Header) (api.Problem, bool) {
	return func(err error, h http.Header) (api.Problem, bool) {
		var e E
		if !errors.As(err, &e) {
			return api.Problem{}, false
		}
		return problem(e, h), true
	}
}

// problemOf returns the problem that an error stands for, and sets the headers that go with
// it; known is false for an error that is a fault of this service.
func (g *Guard) problemOf(h http.Header, r *http.Request, err error) (p api.Problem, known bool) {
	defer func() {
		if known && p.Detail == "" {
			p.Detail = err.Error()
		}
	}()
	for _, of := range errorTypes {
		if p, known := of(err, h); known {
			if p.Kind == "no-key" && g.signedInForContent(r) {
				p.Hint = "you are signed in to the console, but content is read with a key: make one under Keys, or " +
					"read in the Explorer, which reads as you"
			}
			return p, true
		}
	}
	if slices.ContainsFunc(badKeys, func(bad error) bool { return errors.Is(err, bad) }) {
		h.Set("WWW-Authenticate", `Bearer realm="ubiquon", error="invalid_token"`)
		return api.Problem{Kind: "bad-key", Status: 401}, true
	}
	for _, c := range errorCodes {
		if !errors.Is(err, c.err) {
			continue
		}
		if c.kind == "too-slow" {
			g.log.Warn("a request was given up", "method", r.Method, "path", r.URL.Path, "error", err)
		}
		if c.retryAfter != "" {
			h.Set("Retry-After", c.retryAfter)
		}
		return api.Problem{Kind: c.kind, Status: c.status, Hint: c.hint, Parameter: c.parameter}, true
	}
	switch {
	case errors.Is(err, query.ErrTooLarge):
		return api.Problem{
			Kind: "answer-too-large", Status: http.StatusRequestEntityTooLarge,
			Detail: fmt.Sprintf("the answer would have more than %s", g.env.Replica.Limits().Answer),
			Hint:   "ask for fewer entries, or for less of each",
		}, true
	case r.Context().Err() != nil:
		return p, false
	case ingest.OriginFails(err):
		h.Set("Retry-After", "2")
		return api.Problem{Kind: "origin", Status: http.StatusBadGateway}, true
	case db.BadValue(err):
		g.log.Warn("a value was refused by the database", "method", r.Method, "path", r.URL.Path, "error", err)
		return api.Problem{
			Kind: "parameter", Status: 400, Detail: "a value of the request is out of range, or no valid text",
		}, true
	case db.Passing(err):
		_, told := db.TroubleOf(err)
		g.env.Replica.Work().Failures.Failed(g.log, told, "path", r.URL.Path, "error", err)
		h.Set("Retry-After", "1")
		return api.Problem{Kind: "away", Status: 503, Detail: told + "; try again in a moment"}, true
	}
	return p, false
}

// signedInForContent reports whether somebody reads content with the cookie of a session,
// which does not count there.
func (g *Guard) signedInForContent(r *http.Request) bool {
	_, err := r.Cookie(g.sessionCookie(r))
	return err == nil && strings.HasPrefix(r.URL.Path, "/content/")
}
