package settings

import (
	"fmt"
	"strconv"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/settings"
)

// ETag is the entity tag of a version.
func ETag(version int64) string { return strconv.Quote(strconv.FormatInt(version, 10)) }

// ParseConditions returns the version that the conditions of a request demand, 0 for none; nil:
// any. Its error names the header that cannot be read.
func (s *Service) ParseConditions(kind, name, ifMatch, ifNoneMatch string) (*int64, error) {
	switch {
	case ifNoneMatch == "*":
		return new(int64), nil
	case ifNoneMatch != "":
		return nil, api.BadParameter("If-None-Match", "only * is understood here")
	case ifMatch == "":
		return nil, nil
	case ifMatch == "*":
		v := s.State().Version(kind, name)
		if v == 0 {
			return nil, settings.ErrVersion
		}
		return &v, nil
	}
	text, err := strconv.Unquote(strings.TrimPrefix(ifMatch, "W/"))
	if err != nil {
		return nil, api.BadParameter("If-Match", "%s is no ETag of a setting; send the one that you got", ifMatch)
	}
	v, err := strconv.ParseInt(text, 10, 64)
	if err != nil || v < 1 {
		return nil, api.BadParameter("If-Match", "%s is no ETag of a setting; send the one that you got", ifMatch)
	}
	return &v, nil
}

// CompileRule prepares a rule to be tried: the one that is kept under the name, or another in its
// place. It returns what is wrong with it, and what is odd. Its error is db.ErrNotFound if there
// is none.
func (s *Service) CompileRule(
	name string, instead *rule.Rule,
) (c *rule.Compiled, problems rule.Mistakes, warnings []string, err error) {
	st := s.State()
	set := st.Set
	if instead != nil {
		set = st.clone()
		r := *instead
		r.Name = name
		set.putRule(r)
	}
	i := set.ruleAt(name)
	if i < 0 {
		return nil, nil, nil, fmt.Errorf("rule %q: %w", name, db.ErrNotFound)
	}
	around := s.surroundings(set, st.Vocabulary)
	if err := rule.Check(&set.Rules[i], around); err != nil {
		return nil, err.(rule.Mistakes), nil, nil
	}
	c, err = rule.Compile(set.Rules[i], st.Version(KindRule, name), st.Vocabulary)
	return c, nil, rule.Warn(&set.Rules[i], set.Rules, around), err
}
