package contentapi

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

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
	"ubiquon/internal/server/guard"
)

// maxAddress bounds the address of a read, in bytes.
const maxAddress = 16 << 10

// content answers reads in both spellings: what they share is here.
func (s *API) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	begin := time.Now()
	if len(r.RequestURI) > maxAddress {
		s.guard.Fail(
			w,
			r,
			guard.Problem{
				Kind:   "too-long",
				Status: http.StatusRequestURITooLong,
				Detail: fmt.Sprintf(
					"the address has %d bytes, at most %d are taken", len(r.RequestURI), maxAddress,
				),
				Hint: "send GraphQL with POST, or name a trusted document",
			},
		)
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
		detail := "there is no environment " + strconv.Quote(environment)
		if environment == s.env.Replica.Environment() {
			detail = "there is no edition " + strconv.Quote(
				edition,
			) + strictyaml.DidYouMean(
				edition, content.Editions,
			)
		}
		s.guard.Fail(w, r, guard.Problem{Kind: "not-found", Status: 404, Detail: detail})
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
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		w.Header().Set("Allow", "GET, HEAD")
		s.guard.Fail(
			w,
			r,
			guard.Problem{
				Kind:   "method",
				Status: 405,
				Detail: r.Method + " is not served here; content is read with GET",
			},
		)
		return
	}
	if rest == "changes" || rest == "schema" || rest == "openapi.json" || strings.HasPrefix(rest, "graphql/") {
		// Not reads, which count themselves.
		noted := &guard.Counted{ResponseWriter: w}
		w = noted
		defer func() {
			if status := cmp.Or(noted.Status, http.StatusOK); status < 400 { // problems are counted as they are told
				s.guard.Metrics.Content[status/100].Add(1)
			}
		}()
	}
	if rest == "changes" {
		s.changes(w, r, &reader, edition)
		return
	}
	switch rest {
	case "graphql/schema.graphql":
		s.description(
			w, r, &reader, edition, "application/graphql; charset=utf-8",
			func(seen delivery.ModelView, _ string) any { return seen.Schema.SDL },
		)
		return
	case "schema":
		s.description(
			w, r, &reader, edition, "application/schema+json",
			func(seen delivery.ModelView, base string) any { return describe.Schema(seen.Model, base+"/schema") },
		)
		return
	case "openapi.json":
		s.description(
			w, r, &reader, edition, "application/json",
			func(seen delivery.ModelView, base string) any { return describe.OpenAPI(seen.Model, base, edition) },
		)
		return
	}
	if _, t, err := Locate(s.env.Replica.Model(), rest); t != nil && err == nil &&
		!readsAnyOf(reader.Rights, edition, t.Name) {
		// What else is wrong with the request would tell of the type.
		s.refused(w, r, &reader, edition, &access.DeniedError{Grant: s.NeedOf(edition, rest)})
		return
	} else if err != nil && rest != "paths" {
		if seen, failed := s.env.Delivery.ModelFor(reader.Rights, edition); failed == nil {
			_, _, err = Locate(seen.Model, rest) // with what is near of that alone that the reader may know
		}
		s.refused(w, r, &reader, edition, err)
		return
	}
	text := restText(r)
	s.answer(w, r, &reader, edition, begin, func() (*delivery.Plan, error) {
		return s.env.Delivery.PlanFor(
			r.Context(),
			reader.Principal(s.guard.Network(r)),
			text,
			func(m *model.Model, _ *graphql.Schema) (*delivery.Plan, error) {
				return PlanREST(m, edition, rest, r)
			},
		)
	}, "")
}

// discreet is an error of compiling a read as the reader may know it: what it says of
// types that they may not read is said to nobody else.
func Discreet(rights access.Rights, edition string, err error) error {
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
	return len(rights.Types(access.Read, edition, []string{typ})) > 0
}

// needOf is the grant that a path below the edition takes at least.
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
	w http.ResponseWriter, r *http.Request, reader *access.Reader, edition string, begin time.Time,
	plan func() (*delivery.Plan, error), mediaType string,
) {
	o := delivery.ReadOptions{
		Only:      reader.Only,
		Backs:     reader.Backs,
		Principal: reader.Principal(s.guard.Network(r)),
		Anonymous: reader.Kind == access.Everyone,
	}
	if asked := r.Header["Cache-Control"]; asked != nil {
		directives(asked, reader.Known(), &o)
	} else if r.Header["Pragma"] != nil {
		o.Current = true // no-cache is all that it can say (RFC 9111, 5.4)
	}
	if r.Header["Prefer"] != nil {
		o.Lenient, o.Recompute = guard.Prefers(r, "handling=lenient"), guard.Prefers(r, "recompute")
	}
	if n := r.Header["Ubiquon-Min-Sequence"]; n != nil && n[0] != "" {
		var err error
		if o.MinSequence, err = strconv.ParseInt(n[0], 10, 64); err != nil {
			s.guard.Fail(
				w,
				r,
				guard.Problem{
					Kind:      "parameter",
					Status:    400,
					Parameter: "Ubiquon-Min-Sequence",
					Detail:    strconv.Quote(n[0]) + " is no sequence",
					Hint:      "send a whole number",
				},
			)
			return
		}
	}
	var a delivery.Answer
	for try := 0; ; try++ {
		p, err := plan()
		if err == nil {
			a, err = s.env.Delivery.Read(r.Context(), p, reader.Rights, o)
		}
		if errors.Is(err, delivery.ErrReplan) && try < 3 {
			continue
		}
		err = Discreet(reader.Rights, edition, err)
		if err != nil {
			s.refused(w, r, reader, edition, err)
			return
		}
		break
	}
	h := w.Header()
	for name, values := range a.Header {
		h[name] = values
	}
	h["Etag"], h["Content-Length"] = a.ETag(), a.Length()
	if mediaType != "" {
		h["Content-Type"] = []string{mediaType}
	}
	h["Cache-Control"], h["Vary"] = policyFor(a.Open, h["Cache-Control"]), policyFor(a.Open, h["Vary"])
	if s.guard.CORS {
		h["Vary"] = []string{h["Vary"][0] + ", Origin"}
	}
	if o.Lenient {
		h["Vary"] = []string{h["Vary"][0] + ", Prefer"}
		h["Preference-Applied"] = []string{"handling=lenient"}
	}
	if a.Outcome == cache.Bypassed || a.Outcome == cache.Passed {
		h["Preference-Applied"] = append(h["Preference-Applied"], "recompute")
	}
	if r.Method == http.MethodGet && a.Open && !s.env.Delivery.NoteAddress(&a, r.RequestURI) {
		h["Cache-Control"], h["Cdn-Cache-Control"] = []string{
			browsers(model.Freshness{}, true),
		}, []string{
			"max-age=0",
		}
	}
	if a.Outcome == cache.Hit {
		reader.Meter.Hit()
	}
	if a.Outcome != cache.Hit || h["Cache-Status"] == nil {
		h["Cache-Status"] = guard.CacheStatus[a.Outcome]
	} else if o.Current {
		h["Cache-Status"] = verifiedCurrent
	} else if ends := a.Ends(); !ends.IsZero() {
		h["Cache-Status"] = []string{hitFor(max(0, time.Until(ends)))}
	}
	h["Ubiquon-Sequence"] = []string{strconv.FormatInt(a.Sequence, 10)}
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

// refused answers a read that failed, and remembers it if it was refused for want
// of a grant or of a good key.
func (s *API) refused(w http.ResponseWriter, r *http.Request, reader *access.Reader, edition string, err error) {
	var denied *access.DeniedError
	if errors.As(err, &denied) {
		denied.Everyone = !reader.Known()
	}
	if denied != nil || diagnose.IsBadKey(err) {
		one := diagnose.Refusal{
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

// timing writes a Server-Timing value, in milliseconds with three digits.
func timing(took time.Duration) string {
	us := max(0, took.Microseconds())
	b := append(make([]byte, 0, 24), "all;dur="...)
	b = strconv.AppendInt(b, us/1000, 10)
	b = append(b, '.', byte('0'+us/100%10), byte('0'+us/10%10), byte('0'+us%10))
	return string(b)
}

// hitFor is the Cache-Status of a hit that is good for so long. Most are good until
// something changes: for them stands what is told to shared caches.
func hitFor(span time.Duration) string {
	return "Ubiquon; hit; ttl=" + strconv.Itoa(int(span/time.Second))
}

// verifiedCurrent is the Cache-Status of a hit for a request that takes nothing older than
// now: no answer is held any more that a change has made older.
var verifiedCurrent = []string{"Ubiquon; hit; detail=verified-current"}

// directives reads what a request asks of caches (RFC 9111, section 5.2.1). Whatever age
// it takes, an answer that is held is the present one. Those without a key cannot find out
// what is held.
func directives(asked []string, known bool, o *delivery.ReadOptions) {
	for one := range strings.SplitSeq(strings.Join(asked, ","), ",") {
		name, _, _ := strings.Cut(strings.ToLower(strings.TrimSpace(one)), "=")
		switch name {
		case "no-cache", "max-age", "min-fresh":
			o.Current = true
		case "no-store":
			o.Current, o.NoStore = true, true
		case "only-if-cached":
			o.OnlyHeld = known
		}
	}
}

// matches compares an If-None-Match header with an entity tag, weakly, as RFC
// 9110 has it for reads.
func matches(header, etag string) bool {
	if header == "" {
		return false
	}
	if header == etag || strings.TrimSpace(header) == "*" {
		return true
	}
	for one := range strings.SplitSeq(header, ",") {
		if strings.TrimPrefix(strings.TrimSpace(one), "W/") == etag {
			return true
		}
	}
	return false
}

// policyFor picks of two values of a header the one for an answer that is open to everyone,
// or the one for an answer that is its reader's. One value alone is for both.
func policyFor(open bool, values []string) []string {
	if open && len(values) > 1 {
		return values[1:2:2]
	}
	return values[:1:1]
}

// headers are those that every answer to the query has. Cache-Control and Vary have two
// values where it matters whether the answer is open to everyone: see policyFor.
func headers(m *model.Model, q *query.Query, mediaType string, negotiated bool) map[string][]string {
	h := map[string][]string{
		"Content-Type":  {mediaType},
		"Vary":          {"Authorization, Accept-Encoding", "Accept-Encoding"},
		"Cache-Control": {"private, no-store"},
	}
	if negotiated {
		h["Vary"] = []string{"Authorization, Accept-Encoding, Accept-Language", "Accept-Encoding, Accept-Language"}
	}
	if len(q.Roots) > 0 && q.Roots[0].Locale != "" {
		h["Content-Language"] = []string{q.Roots[0].Locale}
	}
	if q.Edition == content.Published {
		f := delivery.PolicyOf(m, delivery.TypesOf(q))
		timely := slices.ContainsFunc(
			q.Lists(), func(r *query.Root) bool { return len(r.Filter.HeldAgainstNow()) > 0 },
		)
		if timely {
			f = model.Freshness{} // it changes with the time
		}
		h["Cache-Control"] = []string{browsers(f, false), browsers(f, true)}
		// For shared caches (RFC 9213), and by which groups they may be told that it is
		// over (RFC 9875).
		shared := "max-age=" + seconds(f.Shared)
		if f.StaleWhileRevalidate > 0 {
			shared += ", stale-while-revalidate=" + seconds(f.StaleWhileRevalidate)
		}
		if f.StaleIfError > 0 {
			shared += ", stale-if-error=" + seconds(f.StaleIfError)
		}
		h["Cdn-Cache-Control"] = []string{shared}
		h["Cache-Status"] = []string{hitFor(time.Duration(f.Shared))}
		if groups := groupsOf(delivery.TypesOf(q)); groups != "" {
			h["Cache-Groups"] = []string{groups}
		}
	}
	tellFarewell(h, m, q)
	return h
}

// browsers is the Cache-Control of an answer. Nobody can tell browsers of changes, so they
// ask whether it is still the same, unless the types say by name that it may be older.
// Shared caches that know nothing of us may keep what is open for as long as s-maxage says.
func browsers(f model.Freshness, open bool) string {
	policy, asks := "private", f.Private == 0 && f.StaleInBrowsers == 0
	if open {
		policy = "public"
	}
	if asks && (!open || f.Shared == 0) {
		return policy + ", no-cache"
	}
	policy += ", max-age=" + seconds(f.Private)
	if open {
		policy += ", s-maxage=" + seconds(f.Shared)
	}
	if f.StaleInBrowsers > 0 {
		policy += ", stale-while-revalidate=" + seconds(f.StaleInBrowsers)
	}
	return policy
}

// groupsOf names the groups of an answer that shows the types: a group a type, as a
// list of RFC 9651.
func groupsOf(types []string) string {
	all := slices.Compact(slices.Sorted(slices.Values(types)))
	for i, t := range all {
		all[i] = strconv.Quote(t)
	}
	return strings.Join(all, ", ")
}

// tellFarewell says by RFC 9745 and RFC 8594 that what is read is deprecated. Found
// are the types of entries whose type only the result tells.
func tellFarewell(h map[string][]string, m *model.Model, q *query.Query, found ...string) {
	_, days := q.Farewell(m, found...)
	if since, err := time.Parse(time.DateOnly, days.DeprecatedSince); err == nil {
		h["Deprecation"] = []string{"@" + strconv.FormatInt(since.Unix(), 10)}
	}
	if gone, err := time.Parse(time.DateOnly, days.Sunset); err == nil {
		h["Sunset"] = []string{gone.Format(http.TimeFormat)}
	}
}

// tellFarewellOf is tellFarewell for a result of which only itself tells the types.
func tellFarewellOf(h map[string][]string, m *model.Model, q *query.Query, res *query.Result) map[string][]string {
	var types []string
	for i := range q.Roots {
		if q.Roots[i].Type == "" {
			for _, row := range res.Roots[i].Rows {
				types = append(types, row.Type)
			}
		}
	}
	if types != nil {
		h = maps.Clone(h)
		tellFarewell(h, m, q, types...)
	}
	return h
}

// with returns the headers with another one: those that all answers have stay as
// they are.
func with(h map[string][]string, name, value string) map[string][]string {
	h = maps.Clone(h)
	h[name] = []string{value}
	return h
}

func seconds(d strictyaml.Duration) string {
	return strconv.Itoa(int(time.Duration(d) / time.Second))
}
