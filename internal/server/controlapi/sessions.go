package controlapi

import (
	"net/http"
	"reflect"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
)

// sessionOperations are signing in and out, and what people do with their own account.
func sessionOperations() []*operation.Operation {
	own := guard.Permit{Kinds: []access.Kind{access.ByAccount}, Body: guard.CredentialBody}
	return []*operation.Operation{
		operation.Raw[*API, api.SignIn, api.Identity](
			"POST /session",
			"signIn",
			"Sign in with e-mail address and password",
			guard.Anybody,
			(*API).signIn,
		).Fails("sign-in", "cross-site", "too-many"),
		operation.Call("GET /session", "getSession", "Say who makes the request", guard.Anybody, (*API).whoIsThis).
			WithExample(api.None{}),
		operation.Raw[*API, api.None, api.SignedOut](
			"DELETE /session",
			"signOut",
			"Sign out",
			guard.Anybody,
			(*API).signOut,
		),
		operation.Raw[*API, api.Welcome, api.LinkOwner]("POST /welcome", "useLink",
			"Say whose link it is; with a password, set it and sign in", guard.Anybody, (*API).welcome).
			Or(reflect.TypeFor[api.Identity](), operation.MediaJSON).
			Fails("sign-in", "cross-site", "too-many"),
		operation.Call("GET /sessions", "listSessions", "List the own sessions", own, (*API).listSessions),
		operation.Call(
			"DELETE /sessions/{session}",
			"endSession",
			"End one of the own sessions",
			own,
			(*API).endSession,
		),
		operation.Call("GET /session/notifications", "getNotifications", "Say how the own account is told of what", own,
			(*API).getNotifications),
		operation.Call(
			"PUT /session/notifications",
			"putNotifications",
			"Change how the own account is told of what",
			own,
			(*API).putNotifications,
		),
		operation.Call("POST /session/proof", "provePassword", "Give the password again", own, (*API).provePassword).
			Fails("sign-in", "too-many"),
		operation.Call("POST /session/password", "changePassword", "Change the own password", own, (*API).changePassword).
			Fails("sign-in", "too-many"),
	}
}

func (s *API) whoIsThis(r *http.Request, _ api.None) (api.Identity, error) {
	who := guard.PrincipalOf(r)
	if !who.Identified() {
		return api.Identity{}, api.Problem{
			Kind: "no-key", Status: http.StatusUnauthorized, Detail: "nobody is signed in",
		}
	}
	return s.identityOf(who), nil
}

func (s *API) identityOf(r *access.Principal) api.Identity {
	out := api.Identity{
		Kind:        r.Kind,
		Name:        r.Name,
		Environment: s.env.Replica.Environment(),
		Grants:      append(append([]string{}, r.Rights.Open.Texts()...), r.Rights.Own.Texts()...),
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

func (s *API) signOut(w http.ResponseWriter, r *http.Request, _ api.None) {
	if cookie := s.guard.CookieOf(r); cookie != "" {
		if err := s.env.Accounts.SignOut(r.Context(), cookie, s.guard.Actor(r)); err != nil {
			s.guard.Fail(w, r, err)
			return
		}
	}
	s.guard.SetCookie(w, r, "", -1)
	guard.WriteJSON(w, http.StatusOK, api.SignedOut{SignedOut: true})
}

func (s *API) getNotifications(r *http.Request, _ api.None) (api.NotificationSettings, error) {
	return s.env.Accounts.Notifications(r.Context(), guard.PrincipalOf(r))
}

func (s *API) putNotifications(r *http.Request, in api.NotificationSettings) (api.NotificationSettings, error) {
	out, err := s.env.Accounts.ChangeNotifications(r.Context(), guard.PrincipalOf(r), in)
	if err == nil {
		err = s.env.Audit.Note(r.Context(), guard.ActorName(r), "account notifications", guard.ActorName(r), nil, out)
	}
	return out, err
}

func (s *API) listSessions(r *http.Request, _ api.None) (api.Sessions, error) {
	all, err := operation.Items(s.env.Accounts.Sessions(r.Context(), guard.PrincipalOf(r)))
	if err != nil {
		return api.Sessions{}, err
	}
	_, here, err := s.env.Accounts.SignedIn(r.Context(), s.guard.CookieOf(r))
	return api.Sessions{Items: all.Items, Here: here}, err
}

func (s *API) endSession(r *http.Request, in api.SessionRef) (api.Ended, error) {
	err := s.env.Accounts.EndSession(r.Context(), guard.PrincipalOf(r), in.Session, s.guard.Actor(r))
	return api.Ended{Ended: true}, err
}

func (s *API) provePassword(r *http.Request, in api.PasswordProof) (api.Proved, error) {
	err := s.env.Accounts.Prove(
		r.Context(), s.guard.CookieOf(r), guard.PrincipalOf(r), in.Password, s.guard.Actor(r),
	)
	return api.Proved{Proved: true}, err
}

func (s *API) changePassword(r *http.Request, in api.PasswordChange) (api.PasswordChanged, error) {
	err := s.env.Accounts.ChangePassword(
		r.Context(), s.guard.CookieOf(r), guard.PrincipalOf(r), in.Password, in.New, s.guard.Actor(r),
	)
	return api.PasswordChanged{Changed: true}, err
}

// sameSite refuses a request without a session that another site's page has sent.
func (s *API) sameSite(r *http.Request) error {
	if s.guard.CrossSite.Check(r) != nil {
		return api.Problem{
			Kind:   "cross-site",
			Status: http.StatusForbidden,
			Detail: "this comes from another site than the console",
		}
	}
	return nil
}

// signedIn answers with the session's cookie, and whose session it is.
func (s *API) signedIn(w http.ResponseWriter, r *http.Request, cookie string, a *api.Account) {
	s.guard.SetCookie(w, r, cookie, int(s.env.Accounts.SessionLongest()/time.Second))
	guard.WriteJSON(w, http.StatusOK, s.identityOf(&access.Principal{
		Kind:   access.ByAccount,
		Name:   a.Email,
		ID:     a.ID,
		Rights: access.Rights{Open: s.env.Keys.PublicGrants(), Own: a.Role.Grants()},
	}))
}

func (s *API) signIn(w http.ResponseWriter, r *http.Request, in api.SignIn) {
	var cookie string
	var a *api.Account
	err := s.sameSite(r)
	if err == nil {
		cookie, a, err = s.env.Accounts.SignIn(
			r.Context(), in.Email, in.Password, s.guard.Actor(r), r.UserAgent(), s.guard.CookieOf(r),
		)
	}
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	s.signedIn(w, r, cookie, a)
}

// welcome says whose link it is; with a password it uses the link up.
func (s *API) welcome(w http.ResponseWriter, r *http.Request, in api.Welcome) {
	var cookie string
	var a *api.Account
	err := s.sameSite(r)
	switch {
	case err == nil && in.Password == "":
		if a, err = s.env.Accounts.Welcome(r.Context(), in.Link, s.guard.Actor(r)); err == nil {
			out := api.LinkOwner{First: a == nil}
			if a != nil {
				out.Email, out.Name = a.Email, a.Name
			}
			guard.WriteJSON(w, http.StatusOK, out)
			return
		}
	case err == nil:
		cookie, a, err = s.env.Accounts.ChoosePassword(
			r.Context(), in.Link, in.Email, in.Name, in.Password, s.guard.Actor(r), r.UserAgent(),
		)
	}
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	s.signedIn(w, r, cookie, a)
}
