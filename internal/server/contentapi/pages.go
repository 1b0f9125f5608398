package contentapi

import (
	"net/http"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/pages"
)

// mark is for which page of a site a read is made; nil for none.
func (s *API) mark(r *http.Request, reader *access.Principal) (*pages.Mark, error) {
	values := r.Header[pages.Header]
	if values == nil {
		return nil, nil
	}
	if reader.Site == "" {
		return nil, api.Problem{
			Kind: "parameter", Status: http.StatusBadRequest, Parameter: pages.Header,
			Detail: "only a site's own key says which page a read is for",
			Hint:   "make a key that belongs to the site: ubiquon key create NAME --site SITE",
		}
	}
	m, err := pages.ParseMark(values)
	if err != nil {
		return nil, api.Problem{
			Kind: "parameter", Status: http.StatusBadRequest, Parameter: pages.Header, Detail: err.Error(),
			Hint: `write it as in "/dispatches/fog-week"; build="42"`,
		}
	}
	return &m, nil
}
