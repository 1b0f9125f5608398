package controlapi

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/delivery"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/store/writing"
)

// routeModel mounts what is done with the model.
func (s *API) routeModel(c routes) {
	// seen is the model as who asks may know it.
	seen := func(w http.ResponseWriter, r *http.Request, mediaType string, of func(delivery.ModelView) []byte) {
		known, err := s.env.Delivery.ModelFor(guard.PrincipalOf(r).Rights, content.Preview)
		if err != nil {
			s.guard.Fail(w, r, err)
			return
		}
		w.Header().Set("Content-Type", mediaType)
		_, _ = w.Write(of(known)) // the reader may be gone
	}
	// Types can be generated with a key for what is published, too.
	c.get("/model", guard.Either(guard.Reads, guard.On(access.Read, content.Published)),
		func(r *http.Request) (any, error) {
			edition := content.Preview
			if rights := guard.PrincipalOf(r).Rights; !rights.AllowsWhole(access.Read, edition) {
				edition = content.Published
			}
			known, err := s.env.Delivery.ModelFor(guard.PrincipalOf(r).Rights, edition)
			return known.Model, err
		})
	c.handle("GET", "/model.graphql", guard.Reads, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen(
			w, r, "application/graphql; charset=utf-8",
			func(known delivery.ModelView) []byte { return []byte(known.Schema.SDL) },
		)
	}))
	c.handle("GET", "/model.yaml", guard.Reads, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen(w, r, "application/yaml", func(known delivery.ModelView) []byte { return known.Model.YAML() })
	}))
	c.do("POST", "/model/plan", guard.Administers.WithBody(guard.ContentBody), func(r *http.Request) (any, error) {
		m, _, err := readModel(r)
		if err != nil {
			return nil, err
		}
		return s.env.Authoring.PlanModel(r.Context(), m)
	})
	c.handle("POST", "/model/apply", guard.Administers.WithBody(guard.ContentBody), http.HandlerFunc(s.applyModel))
	c.handle("POST", "/locales", guard.Administers, http.HandlerFunc(s.editLocales))
}

type modelForm struct {
	// Files of the model, by name.
	Files     map[string]string `json:"files"`
	AllowLoss bool              `json:"allowLoss"`
	// IfVersion refuses when the present model has another version.
	IfVersion int64 `json:"ifVersion"`
}

func readModel(r *http.Request) (*model.Model, modelForm, error) {
	var form modelForm
	if err := guard.ReadBody(r, &form); err != nil {
		return nil, form, err
	}
	if len(form.Files) == 0 {
		return nil, form, api.Problem{
			Kind:      "body",
			Status:    400,
			Parameter: "files",
			Detail:    "there are no files; send them by name, as in {\"files\": {\"notice.yaml\": \"types: …\"}}",
		}
	}
	files := map[string][]byte{}
	for name, text := range form.Files {
		files[name] = []byte(text)
	}
	m, err := model.Read(files)
	return m, form, err
}

// conversionProgress is how far applying a model has come.
type conversionProgress struct {
	Done    int   `json:"done"`
	Total   int   `json:"total"`
	Applied bool  `json:"applied"`
	Version int64 `json:"version,omitempty"`
}

func (s *API) applyModel(w http.ResponseWriter, r *http.Request) {
	m, form, err := readModel(r)
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	s.converting(w, r, func(o writing.ModelOptions) error {
		o.AllowLoss, o.IfVersion = form.AllowLoss, form.IfVersion
		before := map[string]any{"version": s.env.Replica.ModelVersion(), "types": s.env.Replica.Model().TypeNames()}
		if err := s.env.Authoring.ApplyModel(r.Context(), m, guard.ActorName(r), o); err != nil {
			return err
		}
		return s.env.Audit.Note(
			r.Context(),
			guard.ActorName(r),
			"model apply",
			strconv.FormatInt(s.env.Replica.ModelVersion(), 10),
			before,
			map[string]any{
				"version":   s.env.Replica.ModelVersion(),
				"types":     s.env.Replica.Model().TypeNames(),
				"allowLoss": form.AllowLoss,
			},
		)
	})
}

// converting runs a change of the model, and tells as NDJSON how far it has come.
func (s *API) converting(w http.ResponseWriter, r *http.Request, change func(writing.ModelOptions) error) {
	out := guard.NewStream(w)
	var last conversionProgress
	err := change(writing.ModelOptions{Progress: func(done, total int) {
		last = conversionProgress{Done: done, Total: total}
		out.Write(last)
	}})
	if err != nil && !out.Started {
		s.guard.Fail(w, r, err)
		return
	}
	if err != nil {
		out.Write(map[string]any{"problem": map[string]string{"detail": err.Error()}})
		return
	}
	last.Applied, last.Version = true, s.env.Replica.ModelVersion()
	out.Write(last)
}

// localesForm is one change of the locales.
type localesForm struct {
	Do  string `json:"do"` // add, change, retire, restore, order
	Tag string `json:"tag"`
	// Name and Fallback are for add and change.
	Name     string   `json:"name"`
	Fallback []string `json:"fallback"`
	// Order has every tag, the default first.
	Order []string `json:"order"`
}

func (s *API) editLocales(w http.ResponseWriter, r *http.Request) {
	var form localesForm
	if err := guard.ReadBody(r, &form); err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	s.converting(w, r, func(o writing.ModelOptions) error {
		before := s.env.Replica.Model().Locales
		if err := s.env.Authoring.EditLocales(r.Context(), guard.ActorName(r), o, form.change); err != nil {
			return err
		}
		return s.env.Audit.Note(
			r.Context(), guard.ActorName(r), "locale "+form.Do, form.Tag, before, s.env.Replica.Model().Locales,
		)
	})
}

func (f *localesForm) change(locales []model.Locale) ([]model.Locale, error) {
	bad := func(parameter, format string, args ...any) error {
		return api.Problem{Kind: "body", Status: 400, Parameter: parameter, Detail: fmt.Sprintf(format, args...)}
	}
	var tags []string
	for _, l := range locales {
		tags = append(tags, l.Tag)
	}
	at := slices.Index(tags, f.Tag)
	switch f.Do {
	case "add":
		if at >= 0 {
			return nil, bad("tag", "there is a locale %s already", f.Tag)
		}
		return append(locales, model.Locale{Tag: f.Tag, Name: f.Name, Fallback: f.Fallback}), nil
	case "order":
		var out []model.Locale
		for _, tag := range f.Order {
			if i := slices.Index(tags, tag); i >= 0 {
				out = append(out, locales[i])
			}
		}
		if len(out) != len(locales) || len(f.Order) != len(locales) {
			return nil, bad("order", "give every locale once: %v", tags)
		}
		return out, nil
	case "change", "retire", "restore":
		if at < 0 {
			return nil, bad("tag", "there is no locale %q%s", f.Tag, strictyaml.DidYouMean(f.Tag, tags))
		}
		if f.Do == "change" {
			locales[at].Name, locales[at].Fallback = f.Name, f.Fallback
		} else {
			locales[at].Retired = f.Do == "retire"
		}
		return locales, nil
	}
	return nil, bad("do", "%q is none of add, change, retire, restore, order", f.Do)
}
