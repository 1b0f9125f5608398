package controlapi

import (
	"fmt"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/server/guard"
)

// routeKeys mounts what is done with keys, and with what is open to everyone.
func (s *API) routeKeys(c routes) {
	name := func(r *http.Request) string { return chi.URLParam(r, "key") }
	c.get("/keys", guard.Administers, func(r *http.Request) (any, error) {
		items, err := s.env.Keys.Keys(r.Context())
		return map[string]any{"items": items, "open": opened(s.env.Keys.PublicGrants())}, err
	})
	c.do("POST", "/keys", guard.Secures, s.createKey)
	c.get(
		"/keys/{key}", guard.Administers,
		func(r *http.Request) (any, error) { return s.env.Keys.Key(r.Context(), name(r)) },
	)
	c.do("PATCH", "/keys/{key}", guard.Secures, func(r *http.Request) (any, error) {
		form, err := readGrants(r)
		if err != nil {
			return nil, err
		}
		if form.days != nil {
			return s.env.Keys.ExtendKey(r.Context(), name(r), guard.ActorName(r), *form.days)
		}
		return s.env.Keys.GrantKey(r.Context(), name(r), guard.ActorName(r), form.add, form.take)
	})
	c.do("POST", "/keys/{key}/rotate", guard.Secures, func(r *http.Request) (any, error) {
		var form struct {
			Overlap string `json:"overlap"`
		}
		if err := guard.ReadBody(r, &form); err != nil {
			return nil, err
		}
		overlap := 24 * time.Hour
		if form.Overlap != "" {
			var err error
			if overlap, err = time.ParseDuration(form.Overlap); err != nil || overlap < 0 ||
				overlap > 90*24*time.Hour {
				return nil, api.Problem{
					Kind:      "body",
					Status:    400,
					Parameter: "overlap",
					Detail:    fmt.Sprintf("%q is no span from 0s to 2160h", form.Overlap),
				}
			}
		}
		k, secret, err := s.env.Keys.RotateKey(r.Context(), name(r), guard.ActorName(r), overlap)
		return map[string]any{"key": k, "secret": secret}, err
	})
	c.do(
		"DELETE", "/keys/{key}", guard.Secures,
		func(r *http.Request) (any, error) {
			return s.env.Keys.RevokeKey(r.Context(), name(r), guard.ActorName(r))
		},
	)
	c.do("POST", "/keys/check", guard.Administers, func(r *http.Request) (any, error) {
		var form struct {
			Key string `json:"key"` // id, name or secret; empty: everyone
		}
		if err := guard.ReadBody(r, &form); err != nil {
			return nil, err
		}
		return s.env.Diagnosis.CheckKey(r.Context(), form.Key)
	})
	c.get("/open", guard.Reads, func(r *http.Request) (any, error) {
		return map[string]any{"open": opened(s.env.Keys.PublicGrants())}, nil
	})
	c.do("PATCH", "/open", guard.Secures, func(r *http.Request) (any, error) {
		form, err := readGrants(r)
		if err != nil {
			return nil, err
		}
		open, err := s.env.Keys.ChangePublicGrants(r.Context(), guard.ActorName(r), form.add, form.take)
		return map[string]any{"open": opened(open)}, err
	})
	c.get("/refusals", guard.Administers, func(r *http.Request) (any, error) {
		return map[string]any{"items": append([]api.Refusal{}, s.env.Diagnosis.Refusals()...)}, nil
	})
}

// opened is what is open, and never null.
func opened(g access.Grants) access.Grants { return append(access.Grants{}, g...) }

// grantsForm says which grants are added, and which taken away; or, of a key, for
// how many days it is good.
type grantsForm struct {
	add, take access.Grants
	days      *int
}

func readGrants(r *http.Request) (out grantsForm, err error) {
	var form struct {
		Add  []string `json:"add"`
		Take []string `json:"take"`
		Days *int     `json:"days"`
	}
	if err := guard.ReadBody(r, &form); err != nil {
		return out, err
	}
	if len(form.Add)+len(form.Take) == 0 && form.Days == nil {
		return out, api.Problem{
			Kind:      "body",
			Status:    400,
			Parameter: "add",
			Detail:    `name the grants to add or to take, as in {"add": ["read published notice"]}`,
		}
	}
	if out.add, err = parseGrants("add", form.Add); err != nil {
		return out, err
	}
	out.days = form.Days
	out.take, err = parseGrants("take", form.Take)
	return out, err
}

func parseGrants(parameter string, texts []string) (access.Grants, error) {
	out, err := access.ParseGrants(texts)
	if err != nil {
		return nil, api.Problem{Kind: "body", Status: 400, Parameter: parameter, Detail: err.Error()}
	}
	return out, nil
}

func (s *API) createKey(r *http.Request) (any, error) {
	var form struct {
		Name      string     `json:"name"`
		Grants    []string   `json:"grants"`
		Site      string     `json:"site"`
		PerMinute int        `json:"perMinute"`
		Expires   *time.Time `json:"expires"`
	}
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, err
	}
	grants, err := parseGrants("grants", form.Grants)
	if err != nil {
		return nil, err
	}
	made, secret, err := s.env.Keys.CreateKey(
		r.Context(),
		access.Key{
			Name:      form.Name,
			Grants:    grants,
			Site:      form.Site,
			PerMinute: form.PerMinute,
			Expires:   form.Expires,
		},
		guard.ActorName(r),
	)
	return map[string]any{"key": made, "secret": secret}, err
}
