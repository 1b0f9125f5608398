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
	"ubiquon/internal/server/operation"
	"ubiquon/internal/store/writing"
)

// modelOperations are what is done with the model.
func modelOperations() []*operation.Operation {
	administers := guard.Administers.WithBody(guard.ContentBody)
	return []*operation.Operation{
		// Types can be generated with a key for what is published, too.
		operation.Call("GET /model", "getModel", "Get the model, as far as who asks may know it",
			guard.Either(guard.Reads, guard.On(access.Read, content.Published)), (*API).getModel).
			WithExample(api.None{}),
		operation.Raw[*API, api.None, string](
			"GET /model.graphql",
			"getGraphQLSchema",
			"Get the GraphQL schema of the preview edition",
			guard.Reads,
			modelAs("application/graphql; charset=utf-8",
				func(known delivery.ModelView) []byte { return []byte(known.Schema.SDL) }),
		).
			AnswersWith("application/graphql").
			WithExample(api.None{}),
		operation.Raw[*API, api.None, string]("GET /model.yaml", "getModelYAML", "Get the model as one YAML file",
			guard.Reads, modelAs(mediaYAML, func(known delivery.ModelView) []byte { return known.Model.YAML() })).
			AnswersWith(mediaYAML).WithExample(api.None{}),
		operation.Call("POST /model/plan", "planModel", "Say what applying a model would do", administers, (*API).planModel).
			Fails("model").
			WithExample(api.ModelFiles{Files: map[string]string{
				"model.yaml": "locales: {nb: {name: Norsk}}\ntypes:\n  quay:\n    plural: quays\n    fields:\n" +
					"      name: {kind: text, required: true}\n",
			}}),
		operation.Lines("POST /model/apply", "applyModel", "Apply a model", administers, (*API).applyModel).
			Fails("model", "loss", "model-moved", "configuration"),
		operation.Lines("POST /locales", "editLocales", "Change the locales", guard.Administers, (*API).editLocales).
			Fails("loss", "configuration").
			WithExample(api.LocaleEdit{Do: "change", Tag: "ja", Name: "日本語"}),
	}
}

const mediaYAML = "application/yaml"

func (s *API) getModel(r *http.Request, _ api.None) (*model.Model, error) {
	edition := content.Preview
	if rights := guard.PrincipalOf(r).Rights; !rights.AllowsWhole(access.Read, edition) {
		edition = content.Published
	}
	known, err := s.env.Delivery.ModelFor(guard.PrincipalOf(r).Rights, edition)
	return known.Model, err
}

// modelAs returns what writes the model, as far as who asks may know it, in a form.
func modelAs(
	mediaType string, of func(delivery.ModelView) []byte,
) func(*API, http.ResponseWriter, *http.Request, api.None) {
	return func(s *API, w http.ResponseWriter, r *http.Request, _ api.None) {
		known, err := s.env.Delivery.ModelFor(guard.PrincipalOf(r).Rights, content.Preview)
		if err != nil {
			s.guard.Fail(w, r, err)
			return
		}
		w.Header().Set("Content-Type", mediaType)
		_, _ = w.Write(of(known)) // the reader may be gone
	}
}

func (s *API) planModel(r *http.Request, in api.ModelFiles) (api.ModelPlan, error) {
	m, err := readModel(in)
	if err != nil {
		return api.ModelPlan{}, err
	}
	return s.env.Authoring.PlanModel(r.Context(), m)
}

func readModel(in api.ModelFiles) (*model.Model, error) {
	if len(in.Files) == 0 {
		return nil, operation.BadMember(
			"files", "there are no files; send them by name, as in {\"files\": {\"notice.yaml\": \"types: …\"}}",
		)
	}
	files := map[string][]byte{}
	for name, text := range in.Files {
		files[name] = []byte(text)
	}
	return model.Read(files)
}

func (s *API) applyModel(r *http.Request, in api.ModelFiles, send func(api.ConversionProgress)) error {
	m, err := readModel(in)
	if err != nil {
		return err
	}
	return s.converting(send, func(o writing.ModelOptions) error {
		o.AllowLoss, o.IfVersion = in.AllowLoss, in.IfVersion
		before := map[string]any{"version": s.env.Replica.ModelVersion(), "types": s.env.Replica.Model().TypeNames()}
		if err := s.env.Authoring.ApplyModel(r.Context(), m, guard.ActorName(r), o); err != nil {
			return err
		}
		return s.env.Audit.Note(
			r.Context(), guard.ActorName(r), "model apply", strconv.FormatInt(s.env.Replica.ModelVersion(), 10), before,
			map[string]any{
				"version":   s.env.Replica.ModelVersion(),
				"types":     s.env.Replica.Model().TypeNames(),
				"allowLoss": in.AllowLoss,
			},
		)
	})
}

// converting runs a change of the model, and sends how far it has come.
func (s *API) converting(send func(api.ConversionProgress), change func(writing.ModelOptions) error) error {
	var last api.ConversionProgress
	err := change(writing.ModelOptions{Progress: func(done, total int) {
		last = api.ConversionProgress{Done: done, Total: total}
		send(last)
	}})
	if err == nil {
		last.Applied, last.Version = true, s.env.Replica.ModelVersion()
		send(last)
	}
	return err
}

func (s *API) editLocales(r *http.Request, in api.LocaleEdit, send func(api.ConversionProgress)) error {
	return s.converting(send, func(o writing.ModelOptions) error {
		before := s.env.Replica.Model().Locales
		if err := s.env.Authoring.EditLocales(
			r.Context(), guard.ActorName(r), o,
			func(all []model.Locale) ([]model.Locale, error) { return editLocales(in, all) },
		); err != nil {
			return err
		}
		return s.env.Audit.Note(
			r.Context(), guard.ActorName(r), "locale "+in.Do, in.Tag, before, s.env.Replica.Model().Locales,
		)
	})
}

// editLocales returns the locales after an edit.
func editLocales(f api.LocaleEdit, locales []model.Locale) ([]model.Locale, error) {
	bad := func(parameter, format string, args ...any) error {
		return operation.BadMember(parameter, fmt.Sprintf(format, args...))
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
