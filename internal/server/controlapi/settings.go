package controlapi

import (
	"errors"
	"io"
	"net/http"
	"net/mail"
	"net/url"
	"strconv"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/automation"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
	"ubiquon/internal/settings"
)

const (
	settingBody       = 256 << 10
	configurationBody = 4 << 20
)

// settingOperations are what is done with the configuration that is managed while the service
// runs.
func settingOperations() []*operation.Operation {
	var out []*operation.Operation
	out = append(out, ofKind[api.RuleWrite]("rules", settings.KindRule, "Rule", "a rule")...)
	out = append(out, ofKind[api.SiteWrite]("sites", settings.KindSite, "Site", "a site")...)
	out = append(out, ofKind[api.OriginWrite]("origins", settings.KindOrigin, "Origin", "an origin")...)
	out = append(out, ofKind[api.DownstreamWrite]("downstream", settings.KindDownstream, "Downstream",
		"a cache downstream")...)
	out = append(out, ofKind[api.TargetWrite]("targets", settings.KindTarget, "Target", "a target of notifications")...)
	out = append(out, ofKind[api.SingleWrite]("settings", "", "Setting", "the setting mail or cors")...)
	return append(
		out,
		operation.Call("GET /targets", "listTargets", "List the targets of notifications", guard.ReadsAll,
			listKind(settings.KindTarget)).WithExample(api.None{}),
		operation.Call(
			"GET /settings", "listSettings", "List the settings of the kinds of which there is one", guard.ReadsAll,
			listKind(settings.KindMail, settings.KindCORS)).
			WithExample(api.None{}),
		operation.Call("POST /mail/test", "testMail", "Send a test message", guard.Administers, (*API).testMail).
			Fails("mail"),
		operation.Call("GET /secrets", "listSecrets", "List the names of the secrets", guard.Administers, (*API).listSecrets).
			WithExample(api.None{}),
		operation.Call("PUT /secrets/{name}", "putSecret", "Keep a secret", guard.Secures, (*API).putSecret),
		operation.Call("DELETE /secrets/{name}", "deleteSecret", "Forget a secret", guard.Secures, (*API).deleteSecret).
			Fails("referred"),
		operation.Call("GET /configuration", "exportConfiguration", "Get model and settings as the files of a folder",
			guard.Administers, (*API).exportConfiguration).WithExample(api.None{}),
		operation.Call("POST /configuration", "applyConfiguration",
			"Say how the files of a folder differ from model and settings, or apply them",
			guard.Administers.WithBody(configurationBody), (*API).applyConfiguration).
			Fails("model", "setting", "loss", "model-moved").
			WithExample(api.ConfigurationPlan{
				Configuration: api.Configuration{Files: map[string]string{"settings.yaml": "cors: {allow: [\"*\"]}\n"}},
			}),
		operation.Call("GET /notifications", "listNotifications", "List what accounts were told by mail, the newest first",
			guard.Administers, (*API).listNotifications).
			WithExample(api.NotificationFilter{Limit: 5}),
	)
}

// ofKind declares the operations on the settings of one kind; with an empty kind it is the name.
func ofKind[Write any](path, kind, id, what string) []*operation.Operation {
	put := operation.Declare[Write, api.SavedSetting]("PUT /"+path+"/{name}", "put"+id, "Make or replace "+what,
		guard.Administers.WithBody(settingBody)).Fails("setting", "setting-changed", "model")
	put.Handler = func(host any) http.Handler {
		s := host.(*API)
		h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { s.putSetting(w, r, kind) })
		return s.guard.Background(false, s.guard.Idempotent(false, h))
	}
	get := operation.Declare[api.SettingRef, api.SavedSetting](
		"GET /"+path+"/{name}",
		"get"+id,
		"Get "+what+", with its ETag",
		guard.ReadsAll,
	)
	get.Handler = func(host any) http.Handler {
		s := host.(*API)
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			kind, name := settingOf(r, kind)
			saved, err := s.env.Settings.Get(kind, name)
			s.answerSetting(w, r, saved, err)
		})
	}
	return []*operation.Operation{
		get, put,
		operation.Call("DELETE /"+path+"/{name}", "delete"+id, "Remove "+what, guard.Administers,
			func(s *API, r *http.Request, _ api.SettingRemoval) (api.None, error) {
				kind, name := settingOf(r, kind)
				version, err := s.env.Settings.ParseConditions(kind, name, r.Header.Get("If-Match"), "")
				if err != nil {
					return api.None{}, err
				}
				return api.None{}, s.env.Settings.Remove(r.Context(), kind, name, guard.ActorName(r), version)
			}).Fails("setting", "setting-changed"),
		operation.Call(
			"GET /"+path+"/{name}/versions",
			"list"+id+"Versions",
			"List the versions of "+what+", the newest first",
			guard.ReadsAll,
			func(s *API, r *http.Request, _ api.SettingRef) (api.Items[api.Setting], error) {
				kind, name := settingOf(r, kind)
				return operation.Items(s.env.Settings.Versions(r.Context(), kind, name))
			},
		),
	}
}

// settingOf returns the setting that a request names.
func settingOf(r *http.Request, kind string) (string, string) {
	name := nameIn(r)
	if kind == "" {
		kind = name
	}
	return kind, name
}

// nameIn is the name in a request's path.
func nameIn(r *http.Request) string {
	name := chi.URLParam(r, "name")
	if r.URL.RawPath == "" {
		return name
	}
	if plain, err := url.PathUnescape(name); err == nil {
		return plain
	}
	return name
}

func (s *API) putSetting(w http.ResponseWriter, r *http.Request, kind string) {
	kind, name := settingOf(r, kind)
	values, err := guard.QueryValues(r, "check")
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	version, err := s.env.Settings.ParseConditions(kind, name, r.Header.Get("If-Match"), r.Header.Get("If-None-Match"))
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	saved, err := s.env.Settings.Put(
		r.Context(),
		kind,
		name,
		body,
		guard.ActorName(r),
		version,
		values["check"] == "true",
	)
	s.answerSetting(w, r, saved, err)
}

func (s *API) answerSetting(w http.ResponseWriter, r *http.Request, saved api.SavedSetting, err error) {
	if err == nil {
		w.Header().Set("ETag", settings.ETag(saved.Version))
	}
	guard.JSON(s.guard, func(*http.Request) (any, error) { return saved, err })(w, r)
}

// listKind lists the settings of some kinds.
func listKind(kinds ...string) func(*API, *http.Request, api.None) (api.Items[api.Setting], error) {
	return func(s *API, _ *http.Request, _ api.None) (api.Items[api.Setting], error) {
		out := api.Items[api.Setting]{Items: []api.Setting{}}
		for _, kind := range kinds {
			out.Items = append(out.Items, s.env.Settings.List(kind)...)
		}
		return out, nil
	}
}

func (s *API) testMail(r *http.Request, in api.MailTest) (api.None, error) {
	if _, err := mail.ParseAddress(in.To); err != nil {
		return api.None{}, operation.BadMember("to", strconv.Quote(in.To)+" is no e-mail address")
	}
	err := s.env.Automation.TestMail(r.Context(), in.To)
	if errors.Is(err, automation.ErrNoMail) {
		return api.None{}, api.Problem{
			Kind: "mail", Status: http.StatusConflict, Detail: err.Error(), Hint: "set it up with ubiquon mail set",
		}
	}
	if err != nil {
		return api.None{}, api.Problem{Kind: "mail", Status: http.StatusBadGateway, Detail: err.Error()}
	}
	return api.None{}, s.env.Audit.Note(r.Context(), guard.ActorName(r), "mail test", in.To, nil, nil)
}

func (s *API) listSecrets(r *http.Request, _ api.None) (api.Items[api.Secret], error) {
	return operation.Items(s.env.Settings.Secrets(r.Context()))
}

func (s *API) putSecret(r *http.Request, in api.SecretWrite) (api.None, error) {
	return api.None{}, s.env.Settings.SetSecret(r.Context(), nameIn(r), in.Value, guard.ActorName(r))
}

func (s *API) deleteSecret(r *http.Request, _ api.SettingRef) (api.None, error) {
	return api.None{}, s.env.Settings.RemoveSecret(r.Context(), nameIn(r), guard.ActorName(r))
}

func (s *API) exportConfiguration(*http.Request, api.None) (api.Configuration, error) {
	files, err := s.env.Settings.Export()
	return api.Configuration{Files: files}, err
}

func (s *API) applyConfiguration(r *http.Request, in api.ConfigurationPlan) (api.ConfigurationOutcome, error) {
	if len(in.Files) == 0 {
		return api.ConfigurationOutcome{}, operation.BadMember("files", "there are no files")
	}
	out, err := s.env.Settings.Plan(r.Context(), in, guard.ActorName(r))
	if err == nil && out.Applied {
		err = s.env.Audit.Note(r.Context(), guard.ActorName(r), "configuration apply", "", nil, map[string]any{
			"settings": len(out.Changes), "model": len(out.Model),
		})
	}
	return out, err
}

func (s *API) listNotifications(r *http.Request, f api.NotificationFilter) (api.Items[api.Notification], error) {
	return operation.Items(s.env.Automation.Notifications(r.Context(), f))
}

// ruleOperations are what is done with rules besides writing them.
func ruleOperations() []*operation.Operation {
	return []*operation.Operation{
		operation.Call("GET /rules", "listRules", "List rules with how they stand", guard.ReadsAll, (*API).listRules).
			WithExample(api.None{}),
		operation.Call("POST /rules/{name}/try", "tryRule", "Say what a rule would make of something, and do nothing",
			guard.ReadsAll.WithBody(settingBody).InTurn(), (*API).tryRule).Fails("setting").
			WithExample(api.RuleTrial{Name: "Rebuild the site on publish", Sequence: 1}),
		operation.Call("GET /rule-runs", "listRuleRuns", "List what rules made of events, the newest first", guard.ReadsAll,
			(*API).listRuleRuns).
			WithExample(api.RuleRunFilter{Limit: 5}),
		operation.Call(
			"GET /rule-runs/{run}",
			"getRuleRun",
			"Get what a rule made of an event",
			guard.ReadsAll,
			(*API).getRuleRun,
		),
		operation.Call("POST /rule-runs/{run}/again", "runRuleAgain", "Do a step again that has failed", guard.Administers,
			(*API).runAgain).
			Fails("not-running"),
		operation.Call("GET /vocabulary", "getVocabulary", "Get the words that rules are written in", guard.ReadsAll,
			(*API).vocabulary).WithExample(api.None{}),
	}
}

func (s *API) listRules(r *http.Request, _ api.None) (api.Items[api.RuleState], error) {
	return operation.Items(s.env.Automation.Rules(r.Context()))
}

func (s *API) tryRule(r *http.Request, in api.RuleTrial) (api.RuleTrialOutcome, error) {
	in.Name = nameIn(r)
	return s.env.Automation.Try(r.Context(), in)
}

func (s *API) listRuleRuns(r *http.Request, f api.RuleRunFilter) (api.Items[api.RuleRun], error) {
	return operation.Items(s.env.Automation.Runs(r.Context(), f))
}

func (s *API) getRuleRun(r *http.Request, in api.RuleRunRef) (api.RuleRun, error) {
	return s.env.Automation.Run(r.Context(), in.ID)
}

func (s *API) runAgain(r *http.Request, in api.RuleRunAgain) (api.RuleRun, error) {
	step := -1
	if in.Step != nil {
		step = *in.Step
	}
	out, err := s.env.Automation.RunAgain(r.Context(), in.ID, step)
	if err == nil {
		err = s.env.Audit.Note(
			r.Context(),
			guard.ActorName(r),
			"run again",
			out.Rule,
			nil,
			map[string]any{"run": in.ID},
		)
	}
	return out, err
}

func (s *API) vocabulary(_ *http.Request, _ api.None) (api.Vocabulary, error) {
	out := api.Vocabulary{
		ContentEvents: rule.ContentEvents, ServiceEvents: rule.ServiceEvents, Steps: rule.StepKinds,
		Placeholders: rule.Placeholders(nil), Properties: []string{}, Fields: map[string][]string{},
	}
	st := s.env.Settings.State()
	if st.Vocabulary == nil {
		return out, nil
	}
	for _, t := range s.env.Replica.Model().TypeNames() {
		out.Properties, out.Fields[t] = st.Vocabulary.Properties([]string{t})
	}
	return out, nil
}
