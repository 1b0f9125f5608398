package contentapi

import (
	"encoding/json"
	"errors"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/server/guard"
)

// maxSubmission bounds the body of a submission before its type is known.
const maxSubmission = 16 << 10

// submit takes in an entry from outside, as JSON or as a form.
func (s *API) submit(w http.ResponseWriter, r *http.Request, plural string, begin time.Time) {
	reader, err := s.guard.Authenticate(w, r, begin)
	if err == nil {
		err = s.takeIn(w, r, func(locale string, values map[string]any) error {
			return s.env.Authoring.Submit(r.Context(), &reader, plural, locale, s.guard.Address(r), values)
		}, plural)
	}
	if err != nil {
		s.refused(w, r, &reader, "preview", err)
		return
	}
	w.Header().Set("Cache-Control", "no-store")
	s.guard.Metrics.Content[2].Add(1)
	guard.WriteJSON(w, http.StatusAccepted, map[string]bool{"accepted": true})
}

func (s *API) takeIn(
	w http.ResponseWriter, r *http.Request, take func(locale string, values map[string]any) error, plural string,
) error {
	if r.Method != http.MethodPost {
		w.Header().Set("Allow", "POST")
		return api.Problem{Kind: "method", Status: 405, Detail: r.Method + " is not served here; hand in with POST"}
	}
	p, err := guard.Parameters(r.URL, []string{"locale"})
	if err != nil {
		return err
	}
	if p["locale"] == "" {
		p["locale"] = s.env.Replica.Model().Default()
	}
	limit := int64(maxSubmission)
	if t := s.env.Replica.Model().ByPlural(plural); t != nil && t.Submissions != nil {
		limit = int64(t.Submissions.Bytes)
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, limit))
	var tooLarge *http.MaxBytesError
	if errors.As(err, &tooLarge) {
		return guard.TooLargeProblem(tooLarge.Limit)
	}
	if err != nil {
		return api.Problem{Kind: "body", Status: 400, Detail: "the body broke off"}
	}
	values, err := submitted(r.Header.Get("Content-Type"), body)
	if err != nil {
		return err
	}
	err = take(p["locale"], values)
	if errors.Is(err, access.ErrTooMany) {
		return guard.TooMany(time.Minute, "so many entries of this kind are not taken from one address within a minute")
	}
	return err
}

// submitted reads the body of a submission.
func submitted(contentType string, body []byte) (map[string]any, error) {
	bad := func(detail string) error {
		return api.Problem{Kind: "body", Status: 400, Detail: detail}
	}
	if !utf8.Valid(body) || strings.Contains(string(body), `\u0000`) {
		return nil, bad("the body is not valid UTF-8, or holds a NUL")
	}
	values := map[string]any{}
	switch media, _, _ := mime.ParseMediaType(contentType); media {
	case "application/json":
		if err := json.Unmarshal(body, &values); err != nil || values == nil {
			return nil, bad(`the body is not a JSON object, as in {"text": "…"}`)
		}
	case "application/x-www-form-urlencoded":
		form, err := url.ParseQuery(string(body))
		if err != nil {
			return nil, bad("the form is not well encoded")
		}
		for name, v := range form {
			if len(v) > 1 {
				return nil, bad("the field " + name + " is given twice")
			}
			if !utf8.ValidString(v[0]) || strings.ContainsRune(v[0], 0) {
				return nil, bad("the field " + name + " is not valid UTF-8, or holds a NUL")
			}
			values[name] = v[0]
		}
	default:
		return nil, api.Problem{
			Kind:   "media-type",
			Status: 415,
			Detail: "send application/json or application/x-www-form-urlencoded",
		}
	}
	return values, nil
}
