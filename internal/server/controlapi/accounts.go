package controlapi

import (
	"errors"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/authoring"
	"ubiquon/internal/core/access"
	"ubiquon/internal/identity"
	"ubiquon/internal/server/guard"
)

// routeSessions mounts signing in and out.
func (s *API) routeSessions(c routes) {
	c.handle("POST", "/session", guard.Anybody, http.HandlerFunc(s.signIn))
	c.get("/session", guard.Anybody, func(r *http.Request) (any, error) {
		reader := guard.PrincipalOf(r)
		if !reader.Identified() {
			return nil, api.Problem{Kind: "no-key", Status: 401, Detail: "nobody is signed in"}
		}
		return s.whoIs(reader), nil
	})
	c.handle("DELETE", "/session", guard.Anybody, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if cookie := s.guard.CookieOf(r); cookie != "" {
			if err := s.env.Accounts.SignOut(r.Context(), cookie, s.guard.Actor(r)); err != nil {
				s.guard.Fail(w, r, err)
				return
			}
		}
		s.guard.SetCookie(w, r, "", -1)
		guard.WriteJSON(w, http.StatusOK, map[string]bool{"signedOut": true})
	}))
	c.handle("POST", "/welcome", guard.Anybody, http.HandlerFunc(s.welcome))
	own := guard.Permit{Kinds: []access.Kind{access.ByAccount}, Body: guard.CredentialBody}
	c.get("/sessions", own, func(r *http.Request) (any, error) {
		all, err := s.env.Accounts.Sessions(r.Context(), guard.PrincipalOf(r))
		_, here, signedIn := s.env.Accounts.SignedIn(r.Context(), s.guard.CookieOf(r))
		return map[string]any{"items": append([]api.Session{}, all...), "here": here}, errors.Join(err, signedIn)
	})
	c.do("DELETE", "/sessions/{session}", own, func(r *http.Request) (any, error) {
		err := s.env.Accounts.EndSession(
			r.Context(), guard.PrincipalOf(r), chi.URLParam(r, "session"), s.guard.Actor(r),
		)
		return map[string]bool{"ended": true}, err
	})
	c.do("POST", "/session/proof", own, func(r *http.Request) (any, error) {
		var form struct {
			Password string `json:"password"`
		}
		if err := guard.ReadBody(r, &form); err != nil {
			return nil, err
		}
		err := s.env.Accounts.Prove(
			r.Context(), s.guard.CookieOf(r), guard.PrincipalOf(r), form.Password, s.guard.Actor(r),
		)
		return map[string]bool{"proved": true}, err
	})
	c.do("POST", "/session/password", own, func(r *http.Request) (any, error) {
		var form struct {
			Password string `json:"password"`
			New      string `json:"new"`
		}
		if err := guard.ReadBody(r, &form); err != nil {
			return nil, err
		}
		err := s.env.Accounts.ChangePassword(
			r.Context(), s.guard.CookieOf(r), guard.PrincipalOf(r), form.Password, form.New, s.guard.Actor(r),
		)
		return map[string]bool{"changed": true}, err
	})
}

// who is what the console knows of who is signed in.
type who struct {
	Kind        access.Kind `json:"kind"`
	Name        string      `json:"name"`
	Environment string      `json:"environment"`
	Grants      []string    `json:"grants"`
	// May says what the pages of the console offer.
	May map[string]bool `json:"may"`
}

func (s *API) whoIs(r *access.Principal) who {
	out := who{
		Kind:        r.Kind,
		Name:        r.Name,
		Environment: s.env.Replica.Environment(),
		Grants:      append(r.Rights.Open.Texts(), r.Rights.Own.Texts()...),
		May:         map[string]bool{},
	}
	for name, need := range map[string]guard.Permit{
		"write":      guard.On(access.Write, "preview"),
		"publish":    guard.Publishes,
		"administer": guard.Administers,
	} {
		_, missing := need.Need(r.Rights)
		out.May[name] = !missing
	}
	return out
}

// ownBody reads the body of a request that no session is needed for, unless
// another site's page has sent it.
func (s *API) ownBody(r *http.Request, into any) error {
	if err := s.guard.CrossSite.Check(r); err != nil {
		return api.Problem{
			Kind:   "cross-site",
			Status: http.StatusForbidden,
			Detail: "this comes from another site than the console",
		}
	}
	return guard.ReadBody(r, into)
}

func (s *API) signedIn(w http.ResponseWriter, r *http.Request, cookie string, a *api.Account) {
	s.guard.SetCookie(w, r, cookie, int(s.env.Accounts.SessionLongest()/time.Second))
	reader := access.Principal{
		Kind:   access.ByAccount,
		Name:   a.Email,
		ID:     a.ID,
		Rights: access.Rights{Open: s.env.Keys.PublicGrants(), Own: a.Role.Grants()},
	}
	guard.WriteJSON(w, http.StatusOK, s.whoIs(&reader))
}

func (s *API) signIn(w http.ResponseWriter, r *http.Request) {
	var form struct {
		Email    string `json:"email"`
		Password string `json:"password"`
	}
	if err := s.ownBody(r, &form); err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	cookie, a, err := s.env.Accounts.SignIn(
		r.Context(), form.Email, form.Password, s.guard.Actor(r), r.UserAgent(), s.guard.CookieOf(r),
	)
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	s.signedIn(w, r, cookie, a)
}

// welcome says whose link it is; with a password it uses the link up.
func (s *API) welcome(w http.ResponseWriter, r *http.Request) {
	var form struct {
		Link     string `json:"link"`
		Email    string `json:"email"`
		Name     string `json:"name"`
		Password string `json:"password"`
	}
	err := s.ownBody(r, &form)
	if err == nil && form.Password == "" {
		var a *api.Account
		if a, err = s.env.Accounts.Welcome(r.Context(), form.Link, s.guard.Actor(r)); err == nil {
			out := map[string]any{"first": a == nil}
			if a != nil {
				out["email"], out["name"] = a.Email, a.Name
			}
			guard.WriteJSON(w, http.StatusOK, out)
			return
		}
	}
	if err == nil {
		var cookie string
		var a *api.Account
		if cookie, a, err = s.env.Accounts.ChoosePassword(r.Context(), form.Link, form.Email, form.Name,
			form.Password, s.guard.Actor(r), r.UserAgent()); err == nil {
			s.signedIn(w, r, cookie, a)
			return
		}
	}
	s.guard.Fail(w, r, err)
}

// routeAccounts mounts what admins do with accounts, and the audit log.
func (s *API) routeAccounts(c routes) {
	name := func(r *http.Request) string { return chi.URLParam(r, "account") }
	c.get("/accounts", guard.Administers, func(r *http.Request) (any, error) {
		items, err := s.env.Accounts.Accounts(r.Context())
		return map[string]any{"items": items}, err
	})
	c.do("POST", "/accounts", guard.Secures, func(r *http.Request) (any, error) {
		var form struct {
			Email    string      `json:"email"`
			Name     string      `json:"name"`
			Role     access.Role `json:"role"`
			Password string      `json:"password"`
		}
		if err := guard.ReadBody(r, &form); err != nil {
			return nil, err
		}
		a, link, err := s.env.Accounts.CreateAccount(
			r.Context(), api.Account{Email: form.Email, Name: form.Name, Role: form.Role}, form.Password,
			guard.ActorName(r),
		)
		return map[string]any{"account": a, "link": s.linkAddress(r, link)}, err
	})
	c.do("PATCH", "/accounts/{account}", guard.Secures, func(r *http.Request) (any, error) {
		var form struct {
			Name     *string      `json:"name"`
			Role     *access.Role `json:"role"`
			Disabled *bool        `json:"disabled"`
		}
		if err := guard.ReadBody(r, &form); err != nil {
			return nil, err
		}
		return s.env.Accounts.ChangeAccount(r.Context(), name(r), identity.AccountChange(form), guard.ActorName(r))
	})
	c.do("POST", "/accounts/{account}/link", guard.Secures, func(r *http.Request) (any, error) {
		a, link, err := s.env.Accounts.AccountLink(r.Context(), name(r), guard.ActorName(r))
		return map[string]any{"account": a, "link": s.linkAddress(r, link)}, err
	})
	c.handle("GET", "/audit", guard.Administers.InTurn(), http.HandlerFunc(s.audit))
	c.get("/audit/verify", guard.Administers.InTurn(), func(r *http.Request) (any, error) {
		p, err := guard.QueryValues(r, "contains")
		if err != nil {
			return nil, err
		}
		return s.env.Audit.Verify(r.Context(), p["contains"])
	})
}

// linkAddress is where somebody chooses a password; what follows # stays in the
// browser, out of every log.
func (s *API) linkAddress(r *http.Request, link string) string {
	if link == "" {
		return ""
	}
	scheme := "http"
	if s.guard.OverHTTPS(r) {
		scheme = "https"
	}
	return scheme + "://" + r.Host + "/console/welcome#" + link
}

// audit lists the audit log, or exports it as NDJSON.
func (s *API) audit(w http.ResponseWriter, r *http.Request) {
	f, err := auditFilter(r)
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	if !strings.Contains(r.Header.Get("Accept"), "application/x-ndjson") {
		acts, err := s.env.Audit.Acts(r.Context(), f)
		if err != nil {
			s.guard.Fail(w, r, err)
			return
		}
		guard.WriteJSON(w, http.StatusOK, map[string]any{"items": append([]api.AuditRecord{}, acts...)})
		return
	}
	if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), "audit export", "", nil,
		map[string]string{"filter": access.Printable(r.URL.RawQuery)}); err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	out := guard.NewStream(w)
	w.Header().Set("Content-Type", "application/x-ndjson")
	const page = 500
	for left := f.Limit; ; {
		f.Limit = page
		if left > 0 {
			f.Limit = min(page, left)
		}
		acts, err := s.env.Audit.Acts(r.Context(), f)
		if err != nil && !out.Started {
			s.guard.Fail(w, r, err)
			return
		}
		if err != nil {
			s.log.Error("an export of the audit log broke off", "error", err)
			panic(http.ErrAbortHandler)
		}
		for i := range acts {
			out.Write(acts[i])
			f.Below = acts[i].ID
		}
		if left -= len(acts); len(acts) < page || left == 0 {
			return
		}
	}
}

func auditFilter(r *http.Request) (api.AuditFilter, error) {
	p, err := guard.QueryValues(r, "who", "what", "subject", "after", "until", "below", "limit")
	if err != nil {
		return api.AuditFilter{}, err
	}
	f := api.AuditFilter{Who: p["who"], What: p["what"], Subject: p["subject"]}
	for name, at := range map[string]*time.Time{"after": &f.After, "until": &f.Until} {
		if p[name] == "" {
			continue
		}
		if *at, _, err = authoring.ParseMoment(p[name], ""); err != nil {
			return f, api.Problem{Kind: "parameter", Status: 400, Parameter: name, Detail: err.Error()}
		}
	}
	if f.Limit, err = guard.Number(p, "limit"); err != nil {
		return f, err
	}
	if p["below"] != "" {
		if f.Below, err = strconv.ParseInt(p["below"], 10, 64); err != nil {
			return f, api.Problem{
				Kind:      "parameter",
				Status:    400,
				Parameter: "below",
				Detail:    strconv.Quote(p["below"]) + " is no number",
			}
		}
	}
	return f, nil
}
