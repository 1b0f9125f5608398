package settings

import (
	"errors"

	"ubiquon/internal/origin"
)

// OriginToTry reads the configuration of an origin that is tried without being saved, with the values of
// its secrets. Its error is an *InvalidError if it is not sound.
func (s *Service) OriginToTry(name string, src []byte) (*origin.Config, error) {
	set := s.State().clone()
	if err := set.put(KindOrigin, name, src, "origin "+name); err != nil {
		return nil, err
	}
	k := key{KindOrigin, name}
	wrong := s.problems(set, s.replica.Model(), s.State().Vocabulary)[k]
	if len(wrong) > 0 {
		return nil, &InvalidError{k.String(), wrong}
	}
	var failed []error
	set.secrets(KindOrigin, name, func(_ string, text *string) {
		v, err := s.Resolve(*text)
		failed = append(failed, err)
		*text = v
	})
	c := set.Origins[name]
	return &c, errors.Join(failed...)
}
