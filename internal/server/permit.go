package server

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/core/access"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/db"
)

// permit says who may use a route of the control endpoints, and what a request to it
// may cost. What depends on the types that a request is about is checked by the route
// itself.
type permit struct {
	// kinds are the kinds of principal that the route takes at all.
	kinds []access.Kind
	// need returns the grant that is missing; nil: it takes none.
	need func(access.Rights) (access.Need, bool)
	// body bounds the request's body, in bytes; unbounded ones are read piece by piece.
	body int64
	// computed requests wait for their turn among the reads that are computed.
	computed bool
	// once is for writes, which a client may send again with an Idempotency-Key.
	once bool
	// proved takes somebody who is signed in to have given the password lately.
	proved bool
}

const (
	// smallBody is what most requests need, credentialBody what signing in does.
	smallBody      = 64 << 10
	credentialBody = 4 << 10
	// contentBody is for edits and models.
	contentBody   = 8 << 20
	unboundedBody = -1
)

var (
	operators = []access.Kind{access.ByKey, access.ByToken, access.ByAccount}
	signingIn = append([]access.Kind{access.Everyone, access.BySiteKey}, operators...)
	reporters = append([]access.Kind{access.BySiteKey}, operators...)
)

// on takes the verb in the edition on one type at least, in all of its locales: what
// the control endpoints show of an entry is the whole of it.
func on(verb, edition string) permit {
	return permit{kinds: operators, body: smallBody, need: func(r access.Rights) (access.Need, bool) {
		return access.Need{Verb: verb, Edition: edition, Type: access.Any}, !r.AllowsWhole(verb, edition)
	}}
}

// takes takes a grant, as it stands.
func takes(need access.Need) permit {
	return permit{
		kinds: operators,
		body:  smallBody,
		need:  func(r access.Rights) (access.Need, bool) { return r.Missing([]access.Need{need}) },
	}
}

// either takes one of two.
func either(a, b permit) permit {
	return permit{kinds: a.kinds, body: a.body, need: func(r access.Rights) (access.Need, bool) {
		if _, missing := b.need(r); !missing {
			return access.Need{}, false
		}
		return a.need(r)
	}}
}

// withBody is the permit with another bound of the body.
func (p permit) withBody(most int64) permit {
	p.body = most
	return p
}

// inTurn is the permit for a route whose requests are as dear as reads.
func (p permit) inTurn() permit {
	p.computed = true
	return p
}

// afterProof is the permit for a route that changes who may do what.
func (p permit) afterProof() permit {
	p.proved = true
	return p
}

// forWrites is the permit for routes that write.
func (p permit) forWrites() permit {
	p.once = true
	return p
}

// The permits of the control endpoints.
var (
	anybody = permit{kinds: signingIn, body: credentialBody}
	reports = permit{
		kinds: append([]access.Kind{access.Everyone}, reporters...),
		body:  smallBody,
	} // checked by the route
	reads           = on(access.Read, "preview")
	readsAll        = takes(access.Need{Verb: access.Read, Edition: "preview", Type: access.Any})
	writesOrDecides = either(on(access.Write, "preview"), on(access.Publish, "published")).forWrites()
	publishes       = on(access.Publish, "published").forWrites()
	rebuilds        = takes(access.Need{Verb: access.Publish, Edition: "published", Type: access.Any}).forWrites()
	administers     = takes(access.Administer).forWrites()
	secures         = administers.afterProof()
)

// proofGood is for how long a password that was given counts as proof.
const proofGood = 10 * time.Minute

// errNotProved is the error of a request that takes the password anew.
var errNotProved = badRequest{
	problem{
		Kind:   "proof",
		Status: http.StatusForbidden,
		Detail: "give your password again before you change who may do what",
		Hint:   "send it to POST /control/v1/session/proof, then try again",
	},
}

// errKind is the error of a principal that a route does not take, whatever its grants
// are.
func errKind(k access.Kind) error {
	return badRequest{
		problem{
			Kind:   "principal",
			Status: http.StatusForbidden,
			Detail: "a " + string(k) + " may not use this",
			Hint:   "use a key of your own, or sign in",
		},
	}
}

// check returns why the permit does not let a principal through; nil if it does.
func (p permit) check(r *access.Reader, now time.Time) error {
	var missing access.Need
	is := false
	if p.need != nil {
		missing, is = p.need(r.Rights)
	}
	switch taken := slices.Contains(p.kinds, r.Kind); {
	case !taken && r.Known():
		return errKind(r.Kind)
	case is || !taken:
		return &access.DeniedError{Grant: missing, Everyone: !r.Known()}
	case p.proved && r.Kind == access.ByAccount && now.Sub(r.Proved) > proofGood:
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

// guarded lets only those through whom the permit allows, bounds what they send, and
// says who they are.
func (s *Server) guarded(p permit, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		// What waits for its turn may take longer than a list may: exports, checking the
		// audit log.
		if r.Method == http.MethodGet && !p.computed {
			r = r.WithContext(db.For(r.Context(), db.Listing))
		}
		reader, err := s.operator(w, r)
		if err == nil {
			err = p.check(reader, time.Now())
		}
		if err == nil && !sound(chi.RouteContext(r.Context())) {
			err = badRequest{
				problem{Kind: "not-found", Status: http.StatusNotFound, Detail: "nothing has a name like that"},
			}
		}
		if err == nil && p.computed {
			var leave func()
			if leave, err = s.env.Delivery.Admit(r.Context(), reader.Principal(s.source(r))); err == nil {
				defer leave()
			}
		}
		if err != nil {
			s.fail(w, r, err)
			return
		}
		if p.body != unboundedBody {
			r.Body = http.MaxBytesReader(w, r.Body, p.body)
		}
		ctx := context.WithValue(r.Context(), readerContext{}, reader)
		ctx = audit.WithActor(ctx, audit.Actor{Name: reader.Name, Kind: string(reader.Kind), Address: s.address(r)})
		next.ServeHTTP(w, r.WithContext(ctx))
	})
}
