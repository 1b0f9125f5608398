package settings

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/origin"
	"ubiquon/internal/outbound"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/settings"
	"ubiquon/internal/store/writing"
)

// Seed is the configuration that files give at a start.
type Seed struct {
	Origins    map[string]origin.Config
	Sites      map[string]rebuild.Site
	Rules      []rule.Rule
	Downstream map[string]outbound.Target
	Targets    map[string]Target
	Mail       *Mail
	CORS       []string
	// Apply brings up to date what an earlier start has made and nobody has changed since.
	// Without it, only an environment without settings gets any.
	Apply bool
}

// SeededBy is who made what came from the files of a start.
const SeededBy = "the files of a start"

// set returns the seed as a set.
func (s *Seed) set() *Set {
	out := NewSet()
	copyAll(out.Origins, s.Origins)
	copyAll(out.Sites, s.Sites)
	copyAll(out.Downstream, s.Downstream)
	copyAll(out.Targets, s.Targets)
	for _, r := range s.Rules {
		out.putRule(r)
	}
	out.Mail, out.CORS = s.Mail, CORS{Allow: s.CORS}
	return out
}

// Variables lists the variables that the seed refers to. Its error names one that is not set.
func (s *Seed) Variables() (out []string, err error) {
	given := s.set()
	for _, k := range given.keys() {
		for _, reference := range given.references(k.kind, k.name) {
			name, is := strings.CutPrefix(reference, variablePrefix)
			if !is {
				continue
			}
			if _, ok := os.LookupEnv(name); !ok {
				return nil, fmt.Errorf("%s: the variable %s is not set", k, name)
			}
			out = append(out, name)
		}
	}
	return out, nil
}

// Open loads the settings, and makes or brings up to date those of the seed. Its error names
// what is wrong with the seed. The replica must have a model.
func (s *Service) Open(ctx context.Context, seed Seed) error {
	given := seed.set()
	if err := s.openKeys(ctx); err != nil {
		return err
	}
	variables, err := seed.Variables()
	if err != nil {
		return err
	}
	for _, name := range variables {
		s.variables[name] = true
	}
	if err := s.Load(ctx); err != nil {
		return err
	}
	if err := s.reseal(ctx); err != nil {
		return err
	}
	if len(given.keys()) == 0 && (!seed.Apply || s.State().Empty()) {
		return nil
	}
	if err := s.keepLiterals(ctx, given); err != nil {
		return err
	}
	return s.seed(ctx, given, seed.Apply)
}

// keepLiterals keeps secrets that stand in files in plain text, and refers to them by name.
func (s *Service) keepLiterals(ctx context.Context, given *Set) error {
	st := s.State()
	var wrong error
	for _, k := range given.keys() {
		given.secrets(k.kind, k.name, func(place string, text *string) {
			if isReference(*text) || wrong != nil {
				return
			}
			name := nameOfLiteral(k, place)
			if held, ok := st.secrets[name]; !ok || held != *text {
				sealed := s.keys.Seal(s.replica.Environment()+"/"+name, []byte(*text))
				wrong = s.store.Settings.SaveSecret(ctx, name, sealed, content.UserCause(SeededBy))
			}
			*text = secretPrefix + name
		})
	}
	if wrong != nil {
		return wrong
	}
	return s.Load(ctx)
}

// nameOfLiteral is the name under which a secret is kept that stood in plain text.
func nameOfLiteral(k key, place string) string {
	name := strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= '0' && c <= '9' {
			return c
		}
		return '-'
	}, strings.ToLower(k.kind+"-"+k.name+"-"+place))
	for strings.Contains(name, "--") {
		name = strings.ReplaceAll(name, "--", "-")
	}
	return strings.Trim(name[:min(len(name), 100)], "-")
}

func (s *Service) seed(ctx context.Context, given *Set, apply bool) error {
	st := s.State()
	first := st.Empty()
	next := st.clone()
	var writes []settings.Write
	var touched, odd []key
	for _, k := range given.keys() {
		_, spec, err := specOf(given, k)
		if err != nil {
			return err
		}
		_, held, err := specOf(st.Set, k)
		if err != nil {
			return err
		}
		record, there := st.Record(k.kind, k.name)
		switch {
		case string(held) == string(spec):
		case first, apply && (!there || record.By == SeededBy):
			if err := next.put(k.kind, k.name, spec, k.String()); err != nil {
				return err
			}
			touched = append(touched, k)
			writes = append(writes, settings.Write{Kind: k.kind, Name: k.name, Spec: spec, Was: held})
		default:
			odd = append(odd, k)
		}
	}
	for _, k := range st.keys() {
		if record, _ := st.Record(k.kind, k.name); apply && record.By == SeededBy && given.get(k.kind, k.name) == nil {
			_, held, err := specOf(st.Set, k)
			if err != nil {
				return err
			}
			next.drop(k.kind, k.name)
			writes = append(writes, settings.Write{Kind: k.kind, Name: k.name, Was: held})
		}
	}
	if len(odd) > 0 {
		s.log.Warn("files differ from the settings that are in force, which count; see ubiquon diff, and ubiquon apply",
			"settings", odd)
	}
	if err := s.compare(next, touched, s.replica.Model(), st.Vocabulary); err != nil {
		return err
	}
	for _, warning := range s.warnings(next, touched, st.Vocabulary) {
		s.log.Warn(warning)
	}
	if len(writes) == 0 {
		return nil
	}
	if err := s.store.Settings.Save(ctx, writes, content.UserCause(SeededBy)); err != nil {
		return err
	}
	return s.Load(ctx)
}

// Plan works out how a folder differs from what is in force, and applies it if that is asked
// for, model and settings in one transaction. Its error is that of the folder, an
// *InvalidError, or one of writing.Writer.ApplyModel.
func (s *Service) Plan(ctx context.Context, p api.ConfigurationPlan, by string) (api.ConfigurationOutcome, error) {
	out := api.ConfigurationOutcome{
		Model:    []api.Consequence{},
		Changes:  []api.ConfigurationChange{},
		Warnings: []string{},
	}
	files := map[string][]byte{}
	for name, text := range p.Files {
		files[name] = []byte(text)
	}
	folder, err := ReadFolder(files)
	if err != nil {
		return out, err
	}
	kinds := append([]string{"model"}, Kinds...)
	for i, kind := range p.Only {
		if !slices.Contains(kinds, kind) {
			return out, api.BadParameter(fmt.Sprintf("only[%d]", i), "there is no kind %q%s", kind,
				strictyaml.DidYouMean(kind, kinds))
		}
	}
	meant := func(kind string) bool { return len(p.Only) == 0 || slices.Contains(p.Only, kind) }
	st := s.State()
	present, version, err := s.store.Changes.Model(ctx)
	if err != nil {
		return out, err
	}
	m := present
	if folder.Model != nil && meant("model") {
		m = folder.Model
		if out.Model, err = s.store.Writer.Consequences(ctx, present, m); err != nil {
			return out, err
		}
	}
	next, writes, touched, err := s.difference(st.Set, folder, p.Prune, meant, &out)
	if err != nil {
		return out, err
	}
	v, err := rule.NewVocabulary(m)
	if err != nil {
		return out, err
	}
	if err := s.compare(next, touched, m, v); err != nil {
		return out, err
	}
	out.Warnings = s.warnings(next, touched, v)
	if !p.Apply || len(writes) == 0 && len(out.Model) == 0 {
		return out, nil
	}
	out.Applied = true
	return out, s.apply(ctx, m, version, writes, p.AllowLoss, by)
}

// difference compares what is in force with a folder.
func (s *Service) difference(
	now *Set, folder *Folder, prune bool, meant func(kind string) bool, out *api.ConfigurationOutcome,
) (next *Set, writes []settings.Write, touched []key, err error) {
	next = now.clone()
	note := func(k key, action string) error {
		before, was, err := specOf(now, k)
		if err != nil {
			return err
		}
		after, spec, err := specOf(next, k)
		if err != nil {
			return err
		}
		out.Changes = append(out.Changes, api.ConfigurationChange{
			Kind: k.kind, Name: k.name, Action: action, Before: before, After: after,
		})
		writes = append(writes, settings.Write{Kind: k.kind, Name: k.name, Spec: spec, Was: was})
		return nil
	}
	for _, k := range folder.Set.keys() {
		given := folder.Set.get(k.kind, k.name)
		held := now.get(k.kind, k.name)
		if !meant(k.kind) || held != nil && sameSpec(now, folder.Set, k) {
			continue
		}
		spec, err := folder.Set.spec(k.kind, k.name)
		if err != nil || given == nil {
			return nil, nil, nil, err
		}
		if err := next.put(k.kind, k.name, spec, k.String()); err != nil {
			return nil, nil, nil, err
		}
		touched = append(touched, k)
		action := "edit"
		if held == nil {
			action = "add"
		}
		if err := note(k, action); err != nil {
			return nil, nil, nil, err
		}
	}
	for _, k := range now.keys() {
		if prune && meant(k.kind) && folder.has[k.kind] && folder.Set.get(k.kind, k.name) == nil {
			next.drop(k.kind, k.name)
			if err := note(k, "remove"); err != nil {
				return nil, nil, nil, err
			}
		}
	}
	return next, writes, touched, nil
}

// sameSpec reports whether a setting is written the same in two sets.
func sameSpec(a, b *Set, k key) bool {
	x, err := a.spec(k.kind, k.name)
	if err != nil {
		return false
	}
	y, err := b.spec(k.kind, k.name)
	return err == nil && string(x) == string(y)
}

func (s *Service) apply(
	ctx context.Context, m *model.Model, version int64, writes []settings.Write, allowLoss bool, by string,
) error {
	cause := content.Cause{Kind: "model", Name: by}
	err := s.store.Writer.ApplyModel(ctx, m, cause, writing.ModelOptions{
		AllowLoss: allowLoss, IfVersion: version,
		Also: func(b *db.Batch) ([]content.Change, error) {
			changes := settings.Announcements(writes, content.UserCause(by))
			return changes, s.store.Settings.Queue(ctx, b, writes, content.UserCause(by))
		},
	})
	if err != nil {
		return err
	}
	if err := s.replica.ReloadModel(ctx); err != nil {
		return err
	}
	return s.replica.CatchUp(ctx)
}

// Export returns the model and all settings as the files of a folder, by name.
func (s *Service) Export() (map[string]string, error) {
	files, err := Files(s.replica.Model(), s.State().Set)
	out := map[string]string{}
	for name, src := range files {
		out[name] = string(src)
	}
	return out, err
}
