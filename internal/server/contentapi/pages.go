package contentapi

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/pages"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/store/db"
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

// maxManifest bounds a manifest, in bytes.
const maxManifest = 64 << 20

// manifest takes in what the pages of a build are made of, with the site's key: a line of JSON for
// each page.
func (s *API) manifest(w http.ResponseWriter, r *http.Request, edition string, begin time.Time) {
	reader, err := s.guard.Authenticate(w, r, begin)
	var out api.Manifest
	if err == nil {
		out, err = s.takeManifest(w, r, &reader, edition)
	}
	if err != nil {
		s.refused(w, r, &reader, edition, err)
		return
	}
	w.Header().Set("Cache-Control", "no-store")
	s.guard.Metrics.Content[2].Add(1)
	guard.WriteJSON(w, http.StatusOK, out)
}

func (s *API) takeManifest(
	w http.ResponseWriter, r *http.Request, reader *access.Principal, edition string,
) (api.Manifest, error) {
	need := access.Need{Verb: access.Read, Edition: edition, Type: access.Any}
	if !reader.Rights.AllowsAny(access.Read, edition) {
		return api.Manifest{}, &access.DeniedError{Grant: need}
	}
	p, err := guard.Parameters(r.URL, []string{"build"})
	switch {
	case err != nil:
		return api.Manifest{}, err
	case reader.Site == "" || edition != content.Published:
		return api.Manifest{}, api.Problem{
			Kind: "grant", Status: http.StatusForbidden,
			Detail: "what pages are made of is said with a site's own key, of the published edition",
			Hint:   "make a key that belongs to the site: ubiquon key create NAME --site SITE",
		}
	case p["build"] == "":
		return api.Manifest{}, api.BadParameter("build", "say of which build: its number or id")
	}
	lines := bufio.NewScanner(http.MaxBytesReader(w, r.Body, maxManifest))
	lines.Buffer(nil, pages.MaxLine)
	n := 0
	out, err := s.env.Pages.TakeManifest(r.Context(), reader.Site, p["build"], func() (pages.Line, bool, error) {
		for lines.Scan() {
			if n++; len(bytes.TrimSpace(lines.Bytes())) == 0 {
				continue
			}
			l, err := pages.ParseLine(lines.Bytes())
			return l, true, err
		}
		return pages.Line{}, false, lines.Err()
	})
	var tooLarge *http.MaxBytesError
	switch {
	case err == nil:
		return out, nil
	case errors.As(err, &tooLarge):
		return out, guard.TooLargeProblem(tooLarge.Limit)
	case errors.Is(err, db.ErrNotFound):
		return out, api.BadParameter("build", "%s", err.Error())
	}
	return out, api.Problem{
		Kind: "body", Status: http.StatusBadRequest, Detail: fmt.Sprintf("line %d: %s", n, err),
		Hint: fmt.Sprintf("the %d pages before it are taken in", out.Pages),
	}
}
