package controlapi

import (
	"fmt"
	"net/http"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
)

// keyOperations are what is done with keys, and with what is open to everyone.
func keyOperations() []*operation.Operation {
	return []*operation.Operation{
		operation.Call(
			"GET /keys", "listKeys", "List keys, and what is open to everyone", guard.Administers, (*API).listKeys).
			WithExample(api.None{}),
		operation.Call("POST /keys", "createKey", "Make a key", guard.Secures, (*API).createKey).Fails("account").
			WithExample(api.NewKey{Name: "quay-screen", Grants: []string{"read published notice"}, PerMinute: 600}),
		operation.Call("GET /keys/{key}", "getKey", "Get a key", guard.Administers, (*API).getKey).
			WithExample(api.KeyRef{Key: "quay-screen"}),
		operation.Call("PATCH /keys/{key}", "changeKey", "Change the grants of a key, or for how long it is good",
			guard.Secures, (*API).changeKey).
			WithExample(api.KeyChange{
				KeyRef: api.KeyRef{
					Key: "quay-screen",
				}, GrantChange: api.GrantChange{Add: []string{"read published pier"}},
			}),
		operation.Call("POST /keys/{key}/rotate", "rotateKey", "Give a key a new secret", guard.Secures, (*API).rotateKey).
			WithExample(api.KeyRotation{KeyRef: api.KeyRef{Key: "quay-screen"}, Overlap: "24h"}),
		operation.Call("POST /keys/check", "checkKey", "Say what a key sees", guard.Administers, (*API).checkKey).
			WithExample(api.KeyQuestion{Key: "quay-screen"}),
		operation.Call("DELETE /keys/{key}", "revokeKey", "Revoke a key", guard.Secures, (*API).revokeKey).
			WithExample(api.KeyRef{Key: "quay-screen"}),
		operation.Call("GET /open", "getPublicGrants", "Say what is open to everyone", guard.Reads, (*API).getPublicGrants).
			WithExample(api.None{}),
		operation.Call("PATCH /open", "changePublicGrants", "Open grants to everyone, and close others",
			guard.Secures, (*API).changePublicGrants),
		operation.Call("GET /refusals", "listRefusals", "List the reads that were refused lately",
			guard.Administers, (*API).listRefusals).
			WithExample(api.None{}),
	}
}

func (s *API) listKeys(r *http.Request, _ api.None) (api.Keys, error) {
	all, err := operation.Items(s.env.Keys.Keys(r.Context()))
	return api.Keys{Items: all.Items, Open: opened(s.env.Keys.PublicGrants())}, err
}

func (s *API) getKey(r *http.Request, in api.KeyRef) (api.KeyInfo, error) {
	return s.env.Keys.Key(r.Context(), in.Key)
}

func (s *API) createKey(r *http.Request, in api.NewKey) (api.KeySecret, error) {
	grants, err := parseGrants("grants", in.Grants)
	if err != nil {
		return api.KeySecret{}, err
	}
	k, secret, err := s.env.Keys.CreateKey(r.Context(), access.Key{
		Name:      in.Name,
		Grants:    grants,
		Site:      in.Site,
		PerMinute: in.PerMinute,
		Expires:   in.Expires,
	}, guard.ActorName(r))
	return api.KeySecret{Key: k, Secret: secret}, err
}

func (s *API) changeKey(r *http.Request, in api.KeyChange) (*access.Key, error) {
	if in.Days != nil {
		return s.env.Keys.ExtendKey(r.Context(), in.Key, guard.ActorName(r), *in.Days)
	}
	add, take, err := grantChange(in.GrantChange)
	if err != nil {
		return nil, err
	}
	return s.env.Keys.GrantKey(r.Context(), in.Key, guard.ActorName(r), add, take)
}

func (s *API) rotateKey(r *http.Request, in api.KeyRotation) (api.KeySecret, error) {
	overlap := 24 * time.Hour
	if in.Overlap != "" {
		var err error
		if overlap, err = time.ParseDuration(in.Overlap); err != nil || overlap < 0 || overlap > 90*24*time.Hour {
			return api.KeySecret{}, operation.BadMember(
				"overlap",
				fmt.Sprintf("%q is no span from 0s to 2160h", in.Overlap),
			)
		}
	}
	k, secret, err := s.env.Keys.RotateKey(r.Context(), in.Key, guard.ActorName(r), overlap)
	return api.KeySecret{Key: k, Secret: secret}, err
}

func (s *API) revokeKey(r *http.Request, in api.KeyRef) (*access.Key, error) {
	return s.env.Keys.RevokeKey(r.Context(), in.Key, guard.ActorName(r))
}

func (s *API) checkKey(r *http.Request, in api.KeyQuestion) (api.KeyVisibility, error) {
	return s.env.Diagnosis.CheckKey(r.Context(), in.Key)
}

func (s *API) getPublicGrants(*http.Request, api.None) (api.PublicGrants, error) {
	return api.PublicGrants{Open: opened(s.env.Keys.PublicGrants())}, nil
}

func (s *API) changePublicGrants(r *http.Request, in api.GrantChange) (api.PublicGrants, error) {
	add, take, err := grantChange(in)
	if err != nil {
		return api.PublicGrants{}, err
	}
	open, err := s.env.Keys.ChangePublicGrants(r.Context(), guard.ActorName(r), add, take)
	return api.PublicGrants{Open: opened(open)}, err
}

func (s *API) listRefusals(*http.Request, api.None) (api.Items[api.Refusal], error) {
	return operation.Items(s.env.Diagnosis.Refusals(), nil)
}

// opened is what is open, and never null.
func opened(g access.Grants) access.Grants { return append(access.Grants{}, g...) }

// grantChange parses the grants to add and to take away, of which there must be one.
func grantChange(in api.GrantChange) (add, take access.Grants, err error) {
	if len(in.Add)+len(in.Take) == 0 {
		return nil, nil, operation.BadMember(
			"add", `name the grants to add or to take, as in {"add": ["read published notice"]}`,
		)
	}
	if add, err = parseGrants("add", in.Add); err == nil {
		take, err = parseGrants("take", in.Take)
	}
	return add, take, err
}

func parseGrants(member string, texts []string) (access.Grants, error) {
	out, err := access.ParseGrants(texts)
	if err != nil {
		return nil, operation.BadMember(member, err.Error())
	}
	return out, nil
}
