package server

import (
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"math"
	"net/http"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/admission"
	"ubiquon/internal/api"
	"ubiquon/internal/authoring"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/delivery"
	"ubiquon/internal/identity"
	"ubiquon/internal/ingest"
	"ubiquon/internal/replication"
	"ubiquon/internal/store/accounts"
	"ubiquon/internal/store/builds"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/entries"
	"ubiquon/internal/store/writing"
)

// problem is an error in the form of RFC 9457.
type problem struct {
	Kind      string `json:"-"`
	Type      string `json:"type"`
	Title     string `json:"title"`
	Status    int    `json:"status"`
	Detail    string `json:"detail"`
	Parameter string `json:"parameter,omitempty"`
	// At is the character of the parameter's value, the first being 1, where it is wrong.
	At    int    `json:"at,omitempty"`
	Hint  string `json:"hint,omitempty"`
	Grant string `json:"grant,omitempty"`
	// Reason is the class of the reason that a token is not accepted.
	Reason   string           `json:"reason,omitempty"`
	Problems content.Problems `json:"problems,omitempty"`
	// Conflict is what was saved meanwhile, beside what was sent.
	Conflict     *conflict             `json:"conflict,omitempty"`
	ReferredBy   []writing.Referrer    `json:"referredBy,omitempty"`
	Consequences []writing.Consequence `json:"consequences,omitempty"`
	Mistakes     []mistake             `json:"mistakes,omitempty"`
}

// conflict shows both sides of a lost update.
type conflict struct {
	Entry string `json:"entry"`
	// Present is the newest revision, Yours what was to be written.
	Present     content.Revision          `json:"present"`
	Yours       content.Fields            `json:"yours"`
	Differences []content.FieldDifference `json:"differences"`
}

// mistake is something wrong in a model's file.
type mistake struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Text   string `json:"text"`
}

// problemKinds has, by the last part of a problem's type, its title and what
// its page says.
var problemKinds = map[string][2]string{
	"parameter": {
		"A parameter is wrong",
		"A parameter of the request is unknown or has a value that cannot be. The detail names it, the hint says " +
			"what would do. Nothing is ignored silently: a misspelled parameter would otherwise give an answer to " +
			"another question.",
	},
	"no-key": {
		"A key is needed", "What was asked for is not open to everyone. Send a key: Authorization: Bearer ubq_…",
	},
	"bad-key": {
		"The key is not good", "The key that was sent is not whole, not known here, revoked or expired.",
	},
	"grant": {
		"A grant is missing",
		"The key may not read what was asked for. The problem names the missing grant: verb, edition and type. A " +
			"nested selection needs the grant of the type that it enters.",
	},
	"not-found": {"Not found", "There is nothing at this address that you may see."},
	"method":    {"Method not served", "The address is served, but not with this method."},
	"body": {
		"The body cannot be read", "The body of the request is not of the form that is wanted here.",
	},
	"too-large": {"Too large", "The body of the request is larger than what is taken here."},
	"changes-gone": {
		"The changes are not kept any more",
		"Changes stay in the log for a time, and as long as some node needs them. Who comes later reads anew what " +
			"it holds, and goes on from the present sequence, which the hint names.",
	},
	"content": {
		"The content is not valid",
		"One or several values break a rule of the model. Each problem names entry, field and rule.",
	},
	"conflict": {
		"Saved meanwhile by somebody else", "The entry is at another revision than the one that was named.",
	},
	"referred": {
		"Others refer to it",
		"The entry is not deleted or retired while other entries refer to it. The problem lists them. Take the " +
			"references out first, or say evenIfReferred.",
	},
	"model": {"The model is not valid", "The problem lists every mistake with file, line and column."},
	"loss": {
		"Content would be lost",
		"The model would lose stored content. The problem lists what. Apply it with allowLoss if that is meant.",
	},
	"model-moved": {
		"The model has changed meanwhile",
		"Somebody else has applied a model since yours was made. Look at the differences again.",
	},
	"configuration": {
		"Origins or rules do not fit the model",
		"An origin maps to, or a rule names, a type or field that the model would not have.",
	},
	"moment":      {"No such moment", "The moment is over, cannot be read, or does not exist in the time zone."},
	"not-pending": {"Not pending any more", "The schedule has been carried out or cancelled."},
	"bad-line": {
		"The import has stopped", "A line of the import is not good, and it was to stop at such a line.",
	},
	"foreign": {
		"The entry is edited elsewhere", "The entry comes from an outside origin and can only be edited there.",
	},
	"signature": {"Not proven", "The announcement does not prove that it comes from the origin."},
	"media-type": {
		"Content type not read here", "The body's content type is none of those that are read here.",
	},
	"behind": {
		"Not known yet",
		"This node does not know of the newest changes at the moment, or not of the one that was asked for, and " +
			"gives no older answer. Try again in a moment.",
	},
	"too-long": {
		"The address is too long",
		"The address of a read has a bound. Long GraphQL requests are sent with POST, or as trusted documents.",
	},
	"not-held": {
		"Not in the cache",
		"The request asked for what is in the cache only (Cache-Control: only-if-cached), and there is nothing " +
			"under it.",
	},
	"origin": {
		"The origin does not answer as it should",
		"What the origin said, or that it cannot be reached, is in the detail; ubiquon origin list shows how it " +
			"stands. It is tried again by itself.",
	},
	"too-slow": {
		"The read took too long",
		"An answer is computed, and a write carried out, for a limited time. Ask for less at once, or have the " +
			"model mark the fields that lists are filtered and sorted by as indexed.",
	},
	"overloaded": {
		"Too much at once",
		"More has to be computed than this node does at once, and the request has waited for its turn. Answers " +
			"that are in the cache are served all the same. Try again when Retry-After says.",
	},
	"answer-too-large": {
		"The answer is too large",
		"The answer would have more bytes than this service computes (limits.answer). Ask for fewer entries, or " +
			"for less of each.",
	},
	"principal": {
		"Not for this kind of principal",
		"The address is not for a key, link or token of this kind, whatever its grants are.",
	},
	"proof": {
		"The password is asked for again",
		"Who may do what is changed only by somebody who has given the password within the last ten minutes.",
	},
	"away": {
		"The database is away",
		"This node cannot reach its database, and has no answer of its own that it may give. Try again in a moment.",
	},
	"internal":    {"Something went wrong here", "The service failed. Its log has more."},
	"not-running": {"The build has ended", "A report came for a build that does not run."},
	"one-entry": {
		"The link is for another entry",
		"A preview link reads one entry, and what that shows. For the rest a site sends its own key.",
	},
	"too-many": {
		"Too many requests",
		"Something was asked for, or tried, more often than is allowed. Retry-After says when to go on.",
	},
	"cross-site": {
		"From another site",
		"A browser sent this from a page of another site, with the session of somebody who is signed in here. " +
			"That is never done.",
	},
	"sign-in": {"Not signed in", "The e-mail address or the password is wrong."},
	"account": {
		"The account cannot be so",
		"Two accounts cannot have one address, and somebody must be left who can administer.",
	},
	"not-taken": {"Nothing is taken in here", "Entries of the type cannot be handed in from outside."},
	"idempotency": {
		"A key for another write",
		"A write that is sent again with its Idempotency-Key is made once. The key is for one request: see the detail.",
	},
	"query-string": {
		"A key in the address",
		"Keys in addresses end up in logs and histories. Send the key in the Authorization header.",
	},
}

func (p problem) fill() problem {
	p.Type = "/problems/" + p.Kind
	p.Title = problemKinds[p.Kind][0]
	return p
}

func (p problem) bytes() []byte {
	src, _ := json.Marshal(p.fill()) // text and numbers
	return append(src, '\n')
}

func writeProblem(w http.ResponseWriter, p problem) {
	h := w.Header()
	h.Set("Content-Type", "application/problem+json")
	h.Set("Cache-Control", "no-store")
	if p.Status == http.StatusUnauthorized && h.Get("WWW-Authenticate") == "" {
		h.Set("WWW-Authenticate", `Bearer realm="ubiquon"`)
	}
	w.WriteHeader(p.Status)
	// The reader may be gone; nothing can be done about that.
	_, _ = w.Write(p.bytes())
}

// fail writes the problem document that an error of the gateway comes to.
func (s *Server) fail(w http.ResponseWriter, r *http.Request, err error) {
	var badParameter *query.Error
	var denied *access.DeniedError
	var problems content.Problems
	var conflict *writing.ConflictError
	var referred *writing.ReferredError
	var mistakes strictyaml.Mistakes
	var loss *writing.LossError
	var configured *authoring.ConflictingConfigError
	var bad badRequest
	var tooLarge *http.MaxBytesError
	var later retryLater
	var badAccess *api.BadParameterError
	var token *identity.TokenError
	p := problem{Detail: err.Error()}
	switch {
	case errors.As(err, &later):
		w.Header().Set("Retry-After", strconv.Itoa(max(1, int(math.Ceil(later.wait.Seconds())))))
		p = later.problem
	case errors.As(err, &bad):
		p = bad.problem
	case errors.As(err, &tooLarge):
		p = tooLargeProblem(tooLarge.Limit)
	case errors.As(err, &badAccess):
		p.Kind, p.Status, p.Parameter = "body", 400, badAccess.Parameter
	case errors.As(err, &badParameter) && badParameter.Parameter == pathItself:
		p = problem{Kind: "not-found", Status: 404, Detail: badParameter.Detail, Hint: badParameter.Hint}
	case errors.As(err, &badParameter):
		p = problem{
			Kind:      "parameter",
			Status:    400,
			Detail:    badParameter.Detail,
			Parameter: badParameter.Parameter,
			At:        badParameter.At,
			Hint:      badParameter.Hint,
		}
	case errors.As(err, &denied) && denied.Everyone:
		p.Kind, p.Status, p.Grant = "no-key", 401, denied.Grant.String()
		p.Detail = fmt.Sprintf("this is not open to everyone; send a key that has the grant %q", denied.Grant)
		p.Hint = access.Mend(p.Grant)
		if _, err := r.Cookie(s.sessionCookie(r)); err == nil && strings.HasPrefix(r.URL.Path, "/content/") {
			p.Hint = "you are signed in to the console, but content is read with a key: make one under Keys, or " +
				"read in the Explorer, which reads as you"
		}
	case errors.As(err, &denied):
		p.Kind, p.Status, p.Grant = "grant", 403, denied.Grant.String()
		p.Hint = access.Mend(p.Grant)
	case errors.As(err, &token):
		w.Header().
			Set("WWW-Authenticate", `Bearer realm="ubiquon", error="invalid_token", error_description="`+token.Class+
				`"`)
		p.Kind, p.Status, p.Reason = "bad-key", 401, token.Class
	case errors.Is(err, access.ErrMalformed),
		errors.Is(err, identity.ErrUnknownKey),
		errors.Is(err, access.ErrExpired),
		errors.Is(err, access.ErrRevoked),
		errors.Is(err, access.ErrRotated),
		errors.Is(err, access.ErrPreviewOver),
		errors.Is(err, access.ErrPreviewRevoked):
		w.Header().Set("WWW-Authenticate", `Bearer realm="ubiquon", error="invalid_token"`)
		p.Kind, p.Status = "bad-key", 401
	case errors.As(err, &problems):
		p.Kind, p.Status, p.Problems = "content", 422, problems
	case errors.As(err, &conflict):
		p.Kind, p.Status = "conflict", 412
	case errors.As(err, &referred):
		p.Kind, p.Status, p.ReferredBy = "referred", 409, referred.By
	case errors.As(err, &mistakes):
		p.Kind, p.Status = "model", 422
		for _, m := range mistakes {
			p.Mistakes = append(p.Mistakes, mistake(m))
		}
	case errors.As(err, &loss):
		p.Kind, p.Status, p.Consequences, p.Hint = "loss", 409, loss.Consequences, "apply it with allowLoss (on "+
			"the command line: --allow-loss) if that is meant"
	case errors.As(err, &configured):
		p.Kind, p.Status = "configuration", 409
	case errors.Is(err, db.ErrModelMoved):
		p.Kind, p.Status = "model-moved", 409
	case errors.Is(err, access.ErrOneEntry):
		p.Kind, p.Status = "one-entry", 403
	case errors.Is(err, access.ErrTooMany):
		w.Header().Set("Retry-After", "10")
		p.Kind, p.Status = "too-many", 429
	case errors.Is(err, authoring.ErrNotTaken):
		p.Kind, p.Status, p.Hint = "not-taken", 405, "add submissions: {fields: […]} to the type in the model"
	case errors.Is(err, identity.ErrWrongPassword):
		p.Kind, p.Status = "sign-in", 401
	case errors.Is(err, accounts.ErrTooManyLinks):
		p.Kind, p.Status = "too-many", 429
		w.Header().Set("Retry-After", "3600")
	case errors.Is(err, accounts.ErrTaken), errors.Is(err, accounts.ErrLastAdmin):
		p.Kind, p.Status = "account", 409
	case errors.Is(err, entries.ErrPast), errors.Is(err, authoring.ErrMoment):
		p.Kind, p.Status, p.Parameter = "moment", 422, "at"
	case errors.Is(err, writing.ErrScheduleGone):
		p.Kind, p.Status = "not-pending", 409
	case errors.Is(err, authoring.ErrBadLine):
		p.Kind, p.Status = "bad-line", 422
	case errors.Is(err, db.ErrForeign), errors.Is(err, ingest.ErrConfigured):
		p.Kind, p.Status = "foreign", 409
	case errors.Is(err, builds.ErrNotRunning):
		p.Kind, p.Status = "not-running", 409
	case errors.Is(err, db.ErrNotFound), errors.Is(err, ingest.ErrUnknownOrigin):
		p.Kind, p.Status = "not-found", 404
	case errors.Is(err, db.ErrWriteTimeout), errors.Is(err, db.ErrUnsure):
		s.log.Warn("a write was given up", "path", r.URL.Path)
		w.Header().Set("Retry-After", "2")
		p.Kind, p.Status = "too-slow", 503
	case errors.Is(err, query.ErrTooLarge):
		p = problem{
			Kind:   "answer-too-large",
			Status: http.StatusRequestEntityTooLarge,
			Detail: fmt.Sprintf("the answer would have more than %s", s.env.Replica.Limits().Answer),
			Hint:   "ask for fewer entries, or for less of each",
		}
	case admission.Overloaded(err):
		w.Header().Set("Retry-After", "2")
		p.Kind, p.Status = "overloaded", 503
	case errors.Is(err, delivery.ErrTooSlow):
		s.log.Warn("a read was given up", "path", r.URL.Path, "error", err)
		p.Kind, p.Status, p.Hint = "too-slow", 503, "ask for less; filter and sort by fields that the model marks "+
			"as indexed"
	case errors.Is(err, delivery.ErrNotHeld):
		p.Kind, p.Status = "not-held", 504
	case errors.Is(err, replication.ErrBehind):
		w.Header().Set("Retry-After", "1")
		p.Kind, p.Status = "behind", 503
	case r.Context().Err() != nil:
		return // the reader is gone
	case ingest.OriginFails(err):
		w.Header().Set("Retry-After", "2")
		p.Kind, p.Status = "origin", http.StatusBadGateway
	case db.BadValue(err):
		s.log.Warn("a value was refused by the database", "method", r.Method, "path", r.URL.Path, "error", err)
		p = problem{
			Kind:   "parameter",
			Status: 400,
			Detail: "a value of the request is out of range, or no valid text",
		}
	case db.Passing(err):
		_, told := db.TroubleOf(err)
		s.env.Replica.Work().Failures.Failed(s.log, told, "path", r.URL.Path, "error", err)
		w.Header().Set("Retry-After", "1")
		p = problem{Kind: "away", Status: 503, Detail: told + "; try again in a moment"}
	default:
		s.log.Error("a request failed", "method", r.Method, "path", r.URL.Path, "error", err)
		p = problem{Kind: "internal", Status: 500, Detail: "something went wrong here; the log has more"}
	}
	if strings.HasPrefix(r.URL.Path, "/content/") {
		s.metrics.content[p.Status/100].Add(1)
	}
	writeProblem(w, p)
}

func (s *Server) problemPage(w http.ResponseWriter, r *http.Request) {
	kind, ok := problemKinds[chi.URLParam(r, "name")]
	if !ok {
		writeProblem(w, problem{Kind: "not-found", Status: 404, Detail: "there is no problem of that name"})
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprintf(
		w,
		"<!doctype html><html lang=en><title>%s</title><body style=\"font:16px/1.5 "+
			"sans-serif;max-width:40em;margin:3em auto\"><h1>%[1]s</h1><p>%s</p></body></html>\n",
		html.EscapeString(kind[0]), html.EscapeString(kind[1]),
	)
}
