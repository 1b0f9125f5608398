package controlapi

import (
	"net/http"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/identity"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
)

// accountOperations are what administrators do with accounts, and the audit log.
func accountOperations() []*operation.Operation {
	return append([]*operation.Operation{
		operation.Call("GET /accounts", "listAccounts", "List accounts", guard.Administers, (*API).listAccounts).
			WithExample(api.None{}),
		operation.Call("POST /accounts", "createAccount", "Make an account", guard.Secures, (*API).createAccount).
			Fails("account").
			WithExample(api.NewAccount{Email: "solveig@skerry.example", Name: "Solveig Aune", Role: access.RoleEditor}),
		operation.Call("PATCH /accounts/{account}", "changeAccount", "Change the name, role or state of an account",
			guard.Secures, (*API).changeAccount).Fails("account"),
		operation.Call(
			"POST /accounts/{account}/link",
			"createAccountLink",
			"Make a link at which an account's password is chosen",
			guard.Secures,
			(*API).accountLink,
		).
			WithExample(api.AccountRef{Account: "solveig@skerry.example"}),
	}, auditOperations()...)
}

func (s *API) listAccounts(r *http.Request, _ api.None) (api.Items[*api.Account], error) {
	return operation.Items(s.env.Accounts.Accounts(r.Context()))
}

func (s *API) createAccount(r *http.Request, in api.NewAccount) (api.AccountLink, error) {
	a, link, err := s.env.Accounts.CreateAccount(
		r.Context(), api.Account{Email: in.Email, Name: in.Name, Role: in.Role}, in.Password, guard.ActorName(r),
	)
	return api.AccountLink{Account: a, Link: s.linkAddress(r, link)}, err
}

func (s *API) changeAccount(r *http.Request, in api.AccountChange) (*api.Account, error) {
	return s.env.Accounts.ChangeAccount(
		r.Context(), in.Account, identity.AccountChange{Name: in.Name, Role: in.Role, Disabled: in.Disabled},
		guard.ActorName(r),
	)
}

func (s *API) accountLink(r *http.Request, in api.AccountRef) (api.AccountLink, error) {
	a, link, err := s.env.Accounts.AccountLink(r.Context(), in.Account, guard.ActorName(r))
	return api.AccountLink{Account: a, Link: s.linkAddress(r, link)}, err
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
