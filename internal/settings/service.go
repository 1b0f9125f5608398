package settings

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/core/seal"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/origin"
	"ubiquon/internal/replication"
	"ubiquon/internal/store"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/settings"
)

// Options of New.
type Options struct {
	Replica *replication.Replica
	// Keys encrypt secrets; nil: a key that lies in the database does.
	Keys *seal.Ring
	// Address returns why an address may not be called; nil: it may.
	Address func(address string) error
	// Purge throws cached responses of this node away: see delivery.Service.Purge.
	Purge func(api.CacheQuery) int
}

// Service is the settings of one environment. It is safe for concurrent use.
type Service struct {
	o       Options
	replica *replication.Replica
	store   *store.Store
	log     *slog.Logger
	state   atomic.Pointer[State]
	loading sync.Mutex // held while state is replaced
	// variables are those that the files of this node name.
	variables map[string]bool
	reads     atomic.Pointer[map[string][]string]
	noted     noted
	listeners []func()
	keys      *seal.Ring // set by Open
}

// State is the settings as of one time, ready to use. It is not changed.
type State struct {
	*Set
	// Vocabulary of the present model; nil before there is one.
	Vocabulary *rule.Vocabulary
	// Compiled has the rules that fit the model, Broken why others do not, by name.
	Compiled []*rule.Compiled
	Broken   map[string]string
	secrets  map[string]string
	// Mark differs whenever a setting or a secret has changed.
	Mark int64
}

// New returns the settings, which are empty until Open.
func New(o Options) *Service {
	s := &Service{
		o:         o,
		replica:   o.Replica,
		store:     o.Replica.Store(),
		log:       o.Replica.Log(),
		variables: map[string]bool{},
	}
	s.noted.seen, s.noted.more = map[[2]string]bool{}, map[[2]string]bool{}
	s.state.Store(&State{Set: NewSet(), secrets: map[string]string{}})
	return s
}

// State returns the present settings.
func (s *Service) State() *State { return s.state.Load() }

// OnChange has f called after every change, by whoever applies it. It must be called before
// Open.
func (s *Service) OnChange(f func()) { s.listeners = append(s.listeners, f) }

// Load reads the settings from the database.
func (s *Service) Load(ctx context.Context) error {
	s.loading.Lock()
	err := s.load(ctx)
	s.loading.Unlock()
	if err != nil {
		return err
	}
	for _, f := range s.listeners {
		f()
	}
	return nil
}

func (s *Service) load(ctx context.Context) error {
	all, err := s.store.Settings.All(ctx)
	if err != nil {
		return err
	}
	sealed, err := s.store.Settings.Secrets(ctx)
	if err != nil {
		return err
	}
	if err := s.loadReads(ctx); err != nil {
		return err
	}
	next := &State{Set: NewSet(), secrets: map[string]string{}, Mark: s.State().Mark + 1}
	for _, one := range all {
		k := key{one.Kind, one.Name}
		if err := next.put(one.Kind, one.Name, one.Spec, k.String()); err != nil {
			// A newer version of this program may have written it.
			s.log.Error("a setting cannot be read, and is not in force here", "setting", k, "error", err)
			continue
		}
		next.records[k] = one
	}
	for _, one := range sealed {
		value, err := s.open(one)
		if err != nil {
			s.log.Error("a secret cannot be read; what needs it fails", "secret", one.Name, "error", err)
			continue
		}
		next.secrets[one.Name] = value
	}
	s.compile(next)
	s.state.Store(next)
	return nil
}

func (s *Service) open(one settings.Sealed) (string, error) {
	value, err := s.keys.Open(s.replica.Environment()+"/"+one.Name, one.Value)
	return string(value), err
}

// compile prepares the rules of a state for the present model.
func (s *Service) compile(st *State) {
	st.Compiled, st.Broken = nil, map[string]string{}
	v, err := rule.NewVocabulary(s.replica.Model())
	if err != nil {
		s.log.Error("rules cannot be read by the model; none fires", "error", err)
		return
	}
	st.Vocabulary = v
	for _, r := range st.Rules {
		c, err := rule.Compile(r, st.Version(KindRule, r.Name), v)
		if err != nil {
			st.Broken[r.Name] = err.Error()
			s.log.Error("a rule does not fit the model, and does not fire", "rule", r.Name, "error", err)
			continue
		}
		st.Compiled = append(st.Compiled, c)
	}
}

// ModelChanged prepares the rules for a model that has just become the present one.
func (s *Service) ModelChanged() {
	s.loading.Lock()
	defer s.loading.Unlock()
	next := *s.State()
	s.compile(&next)
	s.state.Store(&next)
}

// Fits returns why the settings do not fit a model; nil if they do, or do not fit the present
// one either.
func (s *Service) Fits(m *model.Model) error {
	v, err := rule.NewVocabulary(m)
	if err != nil {
		return err
	}
	st := s.State()
	present := s.problems(st.Set, s.replica.Model(), st.Vocabulary)
	var wrong []error
	for k, found := range s.problems(st.Set, m, v) {
		if present[k] == nil {
			wrong = append(wrong, &InvalidError{k.String(), found})
		}
	}
	return joined(wrong)
}

// NewTypeWarnings warns of rules that do not know of a new type.
func (s *Service) NewTypeWarnings(name string) (warnings []string) {
	for _, r := range s.State().Rules {
		if len(r.Types) > 0 && !slices.Contains(r.Types, name) {
			warnings = append(warnings, fmt.Sprintf(
				"the rule %q names its types, and not the new type %s: publishing one of those does nothing there",
				r.Name,
				name,
			))
		}
	}
	return warnings
}

// ErrNoSecret is the error of a reference to a secret that is not there.
var ErrNoSecret = errors.New("the secret is not there")

// Resolve returns the value of secret:NAME or env:NAME; of other text, the text.
func (s *Service) Resolve(reference string) (string, error) {
	if name, is := strings.CutPrefix(reference, secretPrefix); is {
		if v, ok := s.State().secrets[name]; ok {
			return v, nil
		}
		return "", fmt.Errorf("secret %s: %w", name, ErrNoSecret)
	}
	if name, is := strings.CutPrefix(reference, variablePrefix); is {
		if v, ok := os.LookupEnv(name); ok && s.variables[name] {
			return v, nil
		}
		return "", fmt.Errorf("variable %s: %w", name, ErrNoSecret)
	}
	return reference, nil
}

// resolved returns a copy of a setting in which secrets have their values.
func (s *Service) resolved(kind, name string) (*Set, error) {
	out := s.State().clone()
	var wrong []error
	out.secrets(kind, name, func(_ string, text *string) {
		v, err := s.Resolve(*text)
		if err != nil {
			wrong = append(wrong, err)
		}
		*text = v
	})
	return out, errors.Join(wrong...)
}

// Origins returns the origins, with the values of their secrets. One whose secrets are not at
// hand is left out.
func (s *Service) Origins() map[string]origin.Config {
	out := map[string]origin.Config{}
	for name := range s.State().Origins {
		set, err := s.resolved(KindOrigin, name)
		if err != nil {
			s.log.Error("an origin cannot be used", "origin", name, "error", err)
			continue
		}
		out[name] = set.Origins[name]
	}
	return out
}

// Get returns a setting as it stands, with what is odd about it. Its error is db.ErrNotFound if
// there is none.
func (s *Service) Get(kind, name string) (api.SavedSetting, error) {
	st := s.State()
	r, ok := st.Record(kind, name)
	if !ok {
		return api.SavedSetting{}, fmt.Errorf("%s: %w", key{kind, name}, db.ErrNotFound)
	}
	out := api.SavedSetting{Setting: r, Warnings: s.warnings(st.Set, []key{{kind, name}}, st.Vocabulary)}
	if broken := st.Broken[name]; kind == KindRule && broken != "" {
		out.Problems = rule.Mistakes{{Text: broken}}
	}
	return out, nil
}

// Versions returns the versions of a setting that are kept, the newest first.
func (s *Service) Versions(ctx context.Context, kind, name string) ([]api.Setting, error) {
	all, err := s.store.Settings.Versions(ctx, kind, name)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("%s: %w", key{kind, name}, db.ErrNotFound)
	}
	return all, err
}

// Put makes or replaces a setting. The body is JSON or YAML. With check it only says what is
// wrong. Its error is an *InvalidError or settings.ErrVersion where that is the reason.
func (s *Service) Put(
	ctx context.Context, kind, name string, body []byte, by string, ifVersion *int64, check bool,
) (api.SavedSetting, error) {
	k := key{kind, name}
	out := api.SavedSetting{Setting: api.Setting{Kind: kind, Name: name, By: by}}
	st := s.State()
	next := st.clone()
	if err := next.put(kind, name, body, "body"); err != nil {
		return out, unreadable(k, err)
	}
	was, err := st.spec(kind, name)
	if err != nil {
		return out, err
	}
	if out.Spec, err = next.spec(kind, name); err != nil {
		return out, err
	}
	if text := checkName(kind, name); text != "" {
		return out, &InvalidError{k.String(), rule.Mistakes{{Path: "name", Text: text}}}
	}
	wrong := s.compare(next, []key{k}, s.replica.Model(), st.Vocabulary)
	if check {
		var invalid *InvalidError
		if errors.As(wrong, &invalid) {
			out.Problems = invalid.Mistakes
		}
		out.Version, out.Warnings = st.Version(kind, name), s.warnings(next, []key{k}, st.Vocabulary)
		return out, nil
	}
	if wrong != nil {
		return out, wrong
	}
	w := settings.Write{Kind: kind, Name: name, Spec: out.Spec, IfVersion: ifVersion, Was: was}
	if err := s.save(ctx, []settings.Write{w}, by); err != nil {
		return out, err
	}
	return s.Get(kind, name)
}

// unreadable makes of what is wrong with the form of a record an *InvalidError.
func unreadable(k key, err error) error {
	var found strictyaml.Mistakes
	if !errors.As(err, &found) {
		return &InvalidError{k.String(), rule.Mistakes{{Text: err.Error()}}}
	}
	out := &InvalidError{Of: k.String()}
	for _, m := range found {
		out.Mistakes = append(out.Mistakes, rule.Mistake{
			Path: fmt.Sprintf("line %d, column %d", m.Line, m.Column), Text: m.Text,
		})
	}
	return out
}

// Remove takes a setting out. Its error is db.ErrNotFound if there is none, and those of Put.
func (s *Service) Remove(ctx context.Context, kind, name, by string, ifVersion *int64) error {
	st := s.State()
	if _, ok := st.Record(kind, name); !ok {
		return fmt.Errorf("%s: %w", key{kind, name}, db.ErrNotFound)
	}
	next := st.clone()
	next.drop(kind, name)
	if err := s.compare(next, nil, s.replica.Model(), st.Vocabulary); err != nil {
		return err
	}
	was, err := st.spec(kind, name)
	if err != nil {
		return err
	}
	return s.save(ctx, []settings.Write{{Kind: kind, Name: name, Was: was, IfVersion: ifVersion}}, by)
}

// save carries out writes; when it returns they are in force on this node.
func (s *Service) save(ctx context.Context, writes []settings.Write, by string) error {
	if err := s.store.Settings.Save(ctx, writes, content.UserCause(by)); err != nil {
		return err
	}
	return s.replica.CatchUp(ctx)
}

// List returns the records of a kind, in the order of Set.
func (s *Service) List(kind string) []api.Setting {
	st := s.State()
	out := []api.Setting{}
	for _, k := range st.keys() {
		if r, ok := st.records[k]; ok && k.kind == kind {
			out = append(out, r)
		}
	}
	return out
}

// specOf writes a setting of a set as YAML.
func specOf(s *Set, k key) (string, json.RawMessage, error) {
	spec, err := s.spec(k.kind, k.name)
	if err != nil {
		return "", nil, err
	}
	text, err := toYAML(spec)
	return text, spec, err
}
