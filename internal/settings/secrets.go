package settings

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/seal"
	"ubiquon/internal/store/settings"
)

// openKeys makes ready the keys that encrypt secrets. One that lies in the database decrypts, and
// encrypts where no other is given.
func (s *Service) openKeys(ctx context.Context) error {
	secret, err := s.store.Keys.Secret(ctx)
	if err != nil {
		return err
	}
	own, err := seal.RingOf(secret)
	if err != nil {
		return err
	}
	if s.keys = own; s.o.Keys != nil {
		s.keys = s.o.Keys.And(own)
	}
	return nil
}

// maxSecret bounds a secret, in bytes.
const maxSecret = 4096

// Secrets lists the secrets with what refers to them.
func (s *Service) Secrets(ctx context.Context) ([]api.Secret, error) {
	all, err := s.store.Settings.Secrets(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]api.Secret, len(all))
	for i, one := range all {
		out[i] = api.Secret{
			Name: one.Name, Version: one.Version, By: one.By, At: one.At, UsedBy: s.usersOf(secretPrefix + one.Name),
		}
	}
	return out, nil
}

// usersOf lists the settings that refer to a secret.
func (s *Service) usersOf(reference string) []string {
	st := s.State()
	out := []string{}
	set := st.clone()
	for _, k := range set.keys() {
		if slices.Contains(set.references(k.kind, k.name), reference) {
			out = append(out, k.String())
		}
	}
	return out
}

// SetSecret keeps a value under a name. When it returns, calls of this node use it.
func (s *Service) SetSecret(ctx context.Context, name, value, by string) error {
	switch {
	case !plainName.MatchString(name) || len(name) > 100:
		return api.BadParameter("name", "%q is no name; write it in a-z, 0-9 and -, as in slipway-build", name)
	case value == "" || len(value) > maxSecret:
		return api.BadParameter("value", "a secret has 1 to %d bytes", maxSecret)
	case strings.ContainsAny(value, "\x00\n\r"):
		return api.BadParameter("value", "a secret has no line ends in it")
	}
	sealed := s.keys.Seal(s.replica.Environment()+"/"+name, []byte(value))
	if err := s.store.Settings.SaveSecret(ctx, name, sealed, content.UserCause(by)); err != nil {
		return err
	}
	return s.replica.CatchUp(ctx)
}

// InUseError is the error of removing a secret that settings refer to.
type InUseError struct {
	Name string
	By   []string
}

// Error implements error.
func (e *InUseError) Error() string {
	return fmt.Sprintf("the secret %s is in use by %s; change that first", e.Name, strings.Join(e.By, ", "))
}

// RemoveSecret forgets a secret. Its error is an *InUseError if settings refer to it, and
// db.ErrNotFound if there is none.
func (s *Service) RemoveSecret(ctx context.Context, name, by string) error {
	if users := s.usersOf(secretPrefix + name); len(users) > 0 {
		return &InUseError{name, users}
	}
	if err := s.store.Settings.RemoveSecret(ctx, name, content.UserCause(by)); err != nil {
		return err
	}
	return s.replica.CatchUp(ctx)
}

// reseal encrypts with the first key what others have encrypted.
func (s *Service) reseal(ctx context.Context) error {
	all, err := s.store.Settings.Secrets(ctx)
	if err != nil {
		return err
	}
	n := 0
	for _, one := range all {
		value, err := s.open(one)
		if err != nil || s.keys.Current(one.Value) {
			continue // what cannot be read was logged
		}
		sealed := s.keys.Seal(s.replica.Environment()+"/"+one.Name, []byte(value))
		cause := content.UserCause("key rotation")
		if err := s.store.Settings.SaveSecret(ctx, one.Name, sealed, cause); err != nil {
			return err
		}
		n++
	}
	if len(all) > 0 && s.o.Keys == nil {
		s.log.Warn(
			"secrets are encrypted with a key that lies in the database itself; set UBIQUON_SECRET_KEY, or secretKey in " +
				"the configuration",
		)
	}
	if n > 0 {
		s.log.Info("secrets were encrypted again with the first key", "secrets", n)
	}
	return nil
}

// Purge has all nodes throw away the cached responses that the conditions mean.
func (s *Service) Purge(ctx context.Context, queries []api.CacheQuery, cause content.Cause) error {
	if len(queries) == 0 {
		return nil
	}
	return s.store.Settings.AnnouncePurge(ctx, queries, cause)
}

// Changed takes up what changes of settings announce.
func (s *Service) Changed(ctx context.Context, changes []content.Change) error {
	load := false
	for i := range changes {
		c := &changes[i]
		switch {
		case c.Kind != content.SettingsChange:
		case c.What == settings.KindPurge:
			var q api.CacheQuery
			if err := json.Unmarshal([]byte(c.Entry), &q); err != nil {
				return err
			}
			n := s.o.Purge(q)
			s.log.Info("threw cached answers away, as a rule has asked", "rule", c.Cause.Name, "answers", n)
		default:
			load = true
		}
	}
	if !load {
		return nil
	}
	return s.Load(ctx)
}
