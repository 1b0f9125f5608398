package guard

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/db"
)

// Permit says who may use a route of the control endpoints, and what a request to it
// may cost. What depends on the types that a request is about is checked by the route
// itself.
type Permit struct {
	// kinds are the kinds of principal that the route takes at all.
	Kinds []access.Kind
	// Grant is the grant that it takes, in words; empty: none.
	Grant string
	// Need returns the grant that is missing; nil: it takes none.
	Need func(access.Rights) (access.Need, bool)
	// body bounds the request's body, in bytes; unbounded ones are read piece by piece.
	Body int64
	// computed requests wait for their turn among the reads that are computed.
	computed bool
	// once is for writes, which a client may send again with an Idempotency-Key.
	Once bool
	// proved takes somebody who is signed in to have given the password lately.
	Proved bool
}

const (
	// smallBody is what most requests need, credentialBody what signing in does.
	smallBody      = 64 << 10
	CredentialBody = 4 << 10
	// ContentBody is for edits and models.
	ContentBody   = 8 << 20
	UnboundedBody = -1
	// FileBody is unbounded too, and may take as long as something comes.
	FileBody = -2
)

var (
	operators = []access.Kind{access.ByKey, access.ByToken, access.ByAccount}
	signingIn = append([]access.Kind{access.Everyone, access.BySiteKey}, operators...)
	reporters = append([]access.Kind{access.BySiteKey}, operators...)
)

// On takes the verb in the edition on one type at least, in all of its locales: what
// the control endpoints show of an entry is the whole of it.
func On(verb, edition string) Permit {
	grant := verb + " " + edition + " on one type, in all locales"
	return Permit{
		Kinds: operators,
		Body:  smallBody,
		Grant: grant,
		Need: func(r access.Rights) (access.Need, bool) {
			return access.Need{Verb: verb, Edition: edition, Type: access.Any}, !r.AllowsWhole(verb, edition)
		},
	}
}

// takes takes a grant, as it stands.
func takes(need access.Need) Permit {
	return Permit{
		Kinds: operators,
		Body:  smallBody,
		Grant: need.String(),
		Need:  func(r access.Rights) (access.Need, bool) { return r.Missing([]access.Need{need}) },
	}
}

// Either takes one of two.
func Either(a, b Permit) Permit {
	grant := a.Grant + "; or " + b.Grant
	return Permit{Kinds: a.Kinds, Body: a.Body, Grant: grant, Need: func(r access.Rights) (access.Need, bool) {
		if _, missing := b.Need(r); !missing {
			return access.Need{}, false
		}
		return a.Need(r)
	}}
}

// WithBody is the permit with another bound of the body.
func (p Permit) WithBody(most int64) Permit {
	p.Body = most
	return p
}

// InTurn is the permit for a route whose requests are as dear as reads.
func (p Permit) InTurn() Permit {
	p.computed = true
	return p
}

// afterProof is the permit for a route that changes who may do what.
func (p Permit) afterProof() Permit {
	p.Proved = true
	return p
}

// forWrites is the permit for routes that write.
func (p Permit) forWrites() Permit {
	p.Once = true
	return p
}

// The permits of the control endpoints.
var (
	Anybody = Permit{Kinds: signingIn, Body: CredentialBody}
	Reports = Permit{
		Kinds: append([]access.Kind{access.Everyone}, reporters...),
		Body:  smallBody,
	} // checked by the route
	Reads           = On(access.Read, "preview")
	ReadsAll        = takes(access.Need{Verb: access.Read, Edition: "preview", Type: access.Any})
	WritesOrDecides = Either(On(access.Write, "preview"), On(access.Publish, "published")).forWrites()
	Publishes       = On(access.Publish, "published").forWrites()
	Rebuilds        = takes(access.Need{Verb: access.Publish, Edition: "published", Type: access.Any}).forWrites()
	Administers     = takes(access.Administer).forWrites()
	Secures         = Administers.afterProof()
)

// proofGood is for how long a password that was given counts as proof.
const proofGood = 10 * time.Minute

// errNotProved is the error of a request that takes the password again.
var errNotProved = api.Problem{
	Kind:   "proof",
	Status: http.StatusForbidden,
	Detail: "give your password again before you change who may do what",
	Hint:   "send it to POST /control/v1/session/proof, then try again",
}

// errKind is the error of a principal that a route does not take, whatever its grants
// are.
func errKind(k access.Kind) error {
	return api.Problem{
		Kind:   "principal",
		Status: http.StatusForbidden,
		Detail: "a " + string(k) + " may not use this",
		Hint:   "use a key of your own, or sign in",
	}
}

// Check returns why the permit does not let a principal through; nil if it does.
func (p Permit) Check(r *access.Principal, now time.Time) error {
	var missing access.Need
	is := false
	if p.Need != nil {
		missing, is = p.Need(r.Rights)
	}
	switch taken := slices.Contains(p.Kinds, r.Kind); {
	case !taken && r.Identified():
		return errKind(r.Kind)
	case is || !taken:
		return &access.DeniedError{Grant: missing, Everyone: !r.Identified()}
	case p.Proved && r.Kind == access.ByAccount && now.Sub(r.Proved) > proofGood:
		return errNotProved
	}
	return nil
}

// longestName bounds what stands for a name in a path.
const longestName = 500

// sound tells whether the names in a path can be those of something.
func sound(route *chi.Context) bool {
	if route == nil {
		return true
	}
	return !slices.ContainsFunc(route.URLParams.Values, func(name string) bool {
		return len(name) > longestName || !utf8.ValidString(name) || strings.ContainsRune(name, 0)
	})
}

// Guard lets only those through whom the permit allows, bounds what they send, and
// says who they are.
func (g *Guard) Guard(p Permit, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		// What waits for its turn may take longer than a list may: exports, checking the
		// audit log.
		if r.Method == http.MethodGet && !p.computed {
			r = r.WithContext(db.For(r.Context(), db.Listing))
		}
		reader, err := g.Operator(w, r)
		if err == nil {
			err = p.Check(reader, time.Now())
		}
		if err == nil && !sound(chi.RouteContext(r.Context())) {
			err = api.Problem{Kind: "not-found", Status: http.StatusNotFound, Detail: "nothing has a name like that"}
		}
		if err == nil && p.computed {
			var leave func()
			if leave, err = g.env.Delivery.Admit(r.Context(), g.QueueName(reader, r)); err == nil {
				defer leave()
			}
		}
		if err != nil {
			g.Fail(w, r, err)
			return
		}
		switch p.Body {
		case UnboundedBody:
		case FileBody:
			r.Body = &patientBody{r.Body, http.NewResponseController(w)}
		default:
			r.Body = http.MaxBytesReader(w, r.Body, p.Body)
		}
		ctx := context.WithValue(r.Context(), readerContext{}, reader)
		ctx = audit.WithActor(ctx, audit.Actor{Name: reader.Name, Kind: string(reader.Kind), Address: g.Address(r)})
		next.ServeHTTP(w, r.WithContext(ctx))
	})
}
