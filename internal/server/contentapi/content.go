package contentapi

import (
	"cmp"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/describe"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/delivery"
	"ubiquon/internal/diagnose"
	"ubiquon/internal/graphql"
	"ubiquon/internal/pages"
	"ubiquon/internal/server/guard"
)

// maxAddress bounds the address of a read, in bytes.
const maxAddress = 16 << 10

// ServeHTTP answers reads in both spellings: what they share is here.
func (s *API) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	begin := time.Now()
	if len(r.RequestURI) > maxAddress {
		s.guard.Fail(w, r, api.Problem{
			Kind: "too-long", Status: http.StatusRequestURITooLong,
			Detail: fmt.Sprintf("the address has %d bytes, at most %d are taken", len(r.RequestURI), maxAddress),
			Hint:   "send GraphQL with POST, or name a trusted document",
		})
		return
	}
	environment, rest, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/content/"), "/")
	edition, rest, _ := strings.Cut(rest, "/")
	w.Header()["X-Content-Type-Options"] = guard.NoSniff
	if environment == s.env.Replica.Environment() && edition == "submissions" {
		s.submit(w, r, rest, begin)
		return
	}
	if environment != s.env.Replica.Environment() || !delivery.EditionKnown(edition) {
		s.guard.Fail(w, r, s.noEdition(environment, edition))
		return
	}
	if rest == "pages" && r.Method == http.MethodPost {
		s.manifest(w, r, edition, begin)
		return
	}
	reader, err := s.guard.Authenticate(w, r, begin)
	if err == nil && reader.Kind == access.Everyone {
		err = s.anonymous(r, begin)
	}
	if err == nil && !reader.Rights.AllowsAny(access.Read, edition) {
		// Nothing could come back but refusals: nothing is read, compiled or kept for them.
		err = &access.DeniedError{Grant: s.NeedOf(edition, rest)}
	}
	if err != nil {
		s.refused(w, r, &reader, edition, err)
		return
	}
	if rest == "graphql" {
		s.graphql(w, r, &reader, edition, begin)
		return
	}
	switch {
	case r.Method != http.MethodGet && r.Method != http.MethodHead:
		w.Header().Set("Allow", "GET, HEAD")
		s.guard.Fail(w, r, api.Problem{
			Kind: "method", Status: 405, Detail: r.Method + " is not served here; content is read with GET",
		})
	case rest == "changes" || rest == "schema" || rest == "openapi.json" || strings.HasPrefix(rest, "graphql/"):
		s.describeOrFollow(w, r, &reader, edition, rest)
	default:
		s.rest(w, r, &reader, edition, rest, begin)
	}
}

// noEdition is the problem of an address that names no environment or edition.
func (s *API) noEdition(environment, edition string) api.Problem {
	detail := "there is no environment " + strconv.Quote(environment)
	if environment == s.env.Replica.Environment() {
		detail = "there is no edition " + strconv.Quote(edition) + strictyaml.DidYouMean(edition, content.Editions)
	}
	return api.Problem{Kind: "not-found", Status: 404, Detail: detail}
}

// describeOrFollow answers what is not a read: descriptions of the model and changes. Reads
// count themselves; these are counted here, and problems as they are written.
func (s *API) describeOrFollow(
	w http.ResponseWriter, r *http.Request, reader *access.Principal, edition, rest string,
) {
	noted := &guard.Counted{ResponseWriter: w}
	defer func() {
		if status := cmp.Or(noted.Status, http.StatusOK); status < 400 {
			s.guard.Metrics.Content[status/100].Add(1)
		}
	}()
	switch rest {
	case "changes":
		s.changes(noted, r, reader, edition)
	case "graphql/schema.graphql":
		s.description(
			noted, r, reader, edition, "application/graphql; charset=utf-8",
			func(seen delivery.ModelView, _ string) any { return seen.Schema.SDL },
		)
	case "schema":
		s.description(
			noted, r, reader, edition, "application/schema+json",
			func(seen delivery.ModelView, base string) any { return describe.Schema(seen.Model, base+"/schema") },
		)
	case "openapi.json":
		s.description(
			noted, r, reader, edition, "application/json",
			func(seen delivery.ModelView, base string) any { return describe.OpenAPI(seen.Model, base, edition) },
		)
	default:
		s.rest(noted, r, reader, edition, rest, time.Now())
	}
}

// rest answers a read over REST.
func (s *API) rest(
	w http.ResponseWriter, r *http.Request, reader *access.Principal, edition, rest string, begin time.Time,
) {
	made := restRequest(r)
	held := s.env.Delivery.Planned(made)
	if held != nil && len(held.Needs) > 0 {
		if _, missing := reader.Rights.Missing(held.Needs); missing {
			held = nil
		}
	}
	if held == nil {
		if err := s.locatable(reader.Rights, edition, rest); err != nil {
			s.refused(w, r, reader, edition, err)
			return
		}
	}
	s.answer(w, r, reader, edition, begin, func() (*delivery.Plan, error) {
		if p := held; p != nil {
			held = nil // for another try there may be another
			return p, nil
		}
		return s.env.Delivery.PlanFor(
			r.Context(),
			s.guard.QueueName(reader, r),
			made,
			func(m *model.Model, _ *graphql.Schema) (*delivery.Plan, error) {
				return PlanREST(m, s.env.Delivery.Files, edition, rest, r)
			},
		)
	}, "")
}

// locatable returns why a path below the edition leads to nothing that somebody with these rights may read,
// before anything else of a request is looked at: what else is wrong with it would tell of the type.
func (s *API) locatable(rights access.Rights, edition, rest string) error {
	_, t, err := Locate(s.env.Replica.Model(), rest)
	switch {
	case err == nil && t != nil && !readsAnyOf(rights, edition, t.Name):
		return &access.DeniedError{Grant: s.NeedOf(edition, rest)}
	case err == nil || rest == "paths":
		return nil
	}
	if seen, failed := s.env.Delivery.ModelFor(rights, edition); failed == nil {
		_, _, err = Locate(seen.Model, rest) // with what is near of that alone that the reader may know
	}
	return err
}

// WithoutHiddenTypes is an error of compiling a read as the reader may know it: what it says of
// types that they may not read is said to nobody else.
func WithoutHiddenTypes(rights access.Rights, edition string, err error) error {
	if err == nil {
		return nil
	}
	var wrong *query.Error
	if !errors.As(err, &wrong) {
		return err
	}
	for _, t := range wrong.Types {
		if !readsAnyOf(rights, edition, t) {
			return &access.DeniedError{Grant: access.Need{Verb: access.Read, Edition: edition, Type: t}}
		}
	}
	return err
}

// readsAnyOf tells whether the rights are to read entries of a type, in some locale at
// least.
func readsAnyOf(rights access.Rights, edition, typ string) bool {
	return rights.Some(access.Read, edition, typ)
}

// NeedOf is the grant that a path below the edition takes at least.
func (s *API) NeedOf(edition, rest string) access.Need {
	need := access.Need{Verb: access.Read, Edition: edition, Type: access.Any}
	if _, t, err := Locate(s.env.Replica.Model(), rest); err == nil && t != nil {
		need.Type = t.Name
	}
	return need
}

// anonymous counts a request without a key, by the address that it comes from.
func (s *API) anonymous(r *http.Request, now time.Time) error {
	if s.guard.Strangers == nil {
		return nil
	}
	at := s.guard.Network(r)
	if s.guard.Strangers.Allow(at, now) {
		return nil
	}
	return guard.TooMany(
		s.guard.Strangers.Wait(at, now),
		fmt.Sprintf(
			"%d requests a minute are answered to one address without a key",
			s.env.Replica.Limits().AnonymousPerMinute,
		),
	)
}

// answer reads the plan and writes the response. A mediaType overrides the
// response's own.
func (s *API) answer(
	w http.ResponseWriter, r *http.Request, reader *access.Principal, edition string, begin time.Time,
	plan func() (*delivery.Plan, error), mediaType string,
) {
	o, err := s.readOptions(r, reader, begin)
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	mark, err := s.mark(r, reader)
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	var a delivery.Answer
	for try := 0; ; try++ {
		p, err := plan()
		if err == nil {
			a, err = s.env.Delivery.Read(r.Context(), p, reader.Rights, o)
		}
		if errors.Is(err, delivery.ErrModelChanged) && try < 3 {
			continue
		}
		err = WithoutHiddenTypes(reader.Rights, edition, err)
		if err != nil {
			s.refused(w, r, reader, edition, err)
			return
		}
		if mark != nil && edition == content.Published {
			s.env.Pages.Note(r.Context(), reader.Site, pages.RegistrationOf(*mark, p, &a, reader.Rights))
		}
		break
	}
	s.setHeaders(w.Header(), r, &a, &o, mediaType)
	if a.Outcome == cache.Hit {
		reader.Meter.Hit()
	}
	if groups := a.Header["Cache-Groups"]; reader.Site != "" && len(groups) > 0 {
		s.env.Settings.NoteRead(reader.Site, groups[0])
	}
	h := w.Header()
	took := time.Since(begin)
	h["Server-Timing"] = []string{timing(took)}
	s.guard.Metrics.Count(a.Outcome, took)
	body, tag := a.Body, a.ETag()[0]
	if accepted := r.Header["Accept-Encoding"]; len(accepted) > 0 {
		if v := a.Encoded(cache.ChooseEncoding(strings.Join(accepted, ","))); v != nil {
			h["Content-Encoding"], h["Content-Length"], h["Etag"] = v.Name, v.Length, v.ETag
			body, tag = v.Body, v.ETag[0]
		}
	}
	if held := r.Header["If-None-Match"]; held != nil && a.Status == http.StatusOK && matches(held[0], tag) {
		delete(h, "Content-Encoding")
		delete(h, "Content-Length")
		s.guard.Metrics.Content[3].Add(1)
		w.WriteHeader(http.StatusNotModified)
		return
	}
	s.guard.Metrics.Content[a.Status/100].Add(1)
	w.WriteHeader(a.Status)
	if r.Method != http.MethodHead {
		// The reader may be gone; nothing can be done about that.
		_, _ = w.Write(body)
	}
}

// readOptions are what the headers of a request ask for.
func (s *API) readOptions(r *http.Request, reader *access.Principal, begin time.Time) (delivery.ReadOptions, error) {
	o := delivery.ReadOptions{
		Only:      reader.Only,
		Backs:     reader.Backs,
		Principal: s.guard.QueueName(reader, r),
		Anonymous: reader.Kind == access.Everyone,
		Began:     begin,
	}
	if asked := r.Header["Cache-Control"]; asked != nil {
		directives(asked, reader.Identified(), &o)
	} else if r.Header["Pragma"] != nil {
		o.Current = true // no-cache is all that it can say (RFC 9111, 5.4)
	}
	if r.Header["Prefer"] != nil {
		o.Lenient, o.Recompute = guard.Prefers(r, "handling=lenient"), guard.Prefers(r, "recompute")
	}
	if n := r.Header["Ubiquon-Min-Sequence"]; n != nil && n[0] != "" {
		var err error
		if o.MinSequence, err = strconv.ParseInt(n[0], 10, 64); err != nil {
			return o, api.Problem{
				Kind:      "parameter",
				Status:    400,
				Parameter: "Ubiquon-Min-Sequence",
				Detail:    strconv.Quote(n[0]) + " is no sequence",
				Hint:      "send a whole number",
			}
		}
	}
	return o, nil
}

// setHeaders sets the headers of an answer that do not depend on its encoding.
func (s *API) setHeaders(
	h http.Header, r *http.Request, a *delivery.Answer, o *delivery.ReadOptions, mediaType string,
) {
	for name, values := range a.Header {
		h[name] = values
	}
	h["Etag"], h["Content-Length"] = a.ETag(), a.Length()
	if mediaType != "" {
		h["Content-Type"] = mediaTypes[mediaType]
	}
	h["Cache-Control"], h["Vary"] = policyFor(a.Open, h["Cache-Control"]), policyFor(a.Open, h["Vary"])
	if s.guard.CORS() {
		h["Vary"] = []string{h["Vary"][0] + ", Origin"}
	}
	if o.Lenient {
		h["Vary"] = []string{h["Vary"][0] + ", Prefer"}
		h["Preference-Applied"] = []string{"handling=lenient"}
	}
	if a.Outcome == cache.Bypassed || a.Outcome == cache.Passed {
		h["Preference-Applied"] = append(h["Preference-Applied"], "recompute")
	}
	if r.Method == http.MethodGet && a.Open && !s.env.Delivery.NoteAddress(a, r.RequestURI) {
		h["Cache-Control"] = []string{browsers(model.Freshness{}, true)}
		h["Cdn-Cache-Control"] = []string{"max-age=0"}
	}
	if a.Outcome != cache.Hit || h["Cache-Status"] == nil {
		h["Cache-Status"] = guard.CacheStatus[a.Outcome]
	} else if o.Current {
		h["Cache-Status"] = verifiedCurrent
	} else if ends := a.Ends(); !ends.IsZero() {
		h["Cache-Status"] = []string{hitFor(max(0, time.Until(ends)))}
	}
	h["Ubiquon-Sequence"] = s.sequenceValues(a.Sequence)
}

// refused answers a read that failed, and remembers it if it was refused for want
// of a grant or of a good key.
func (s *API) refused(w http.ResponseWriter, r *http.Request, reader *access.Principal, edition string, err error) {
	var denied *access.DeniedError
	if errors.As(err, &denied) {
		denied.Everyone = !reader.Identified()
	}
	if denied != nil || diagnose.IsBadKey(err) {
		one := api.Refusal{
			At:      time.Now(),
			Address: s.guard.Address(r),
			Agent:   r.UserAgent(),
			Request: r.Method + " " + r.URL.RequestURI(),
			Edition: edition,
			Reader:  reader.Name,
			Key:     reader.ID,
			Detail:  err.Error(),
		}
		if denied != nil {
			one.Grant = denied.Grant.String()
		}
		s.env.Diagnosis.NoteRefusal(one)
	}
	s.guard.Fail(w, r, err)
}
