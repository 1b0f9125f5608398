package contentapi

import (
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/core/sunset"
	"ubiquon/internal/delivery"
)

// timing writes a Server-Timing value, in milliseconds with three digits.
func timing(took time.Duration) string {
	us := max(0, took.Microseconds())
	b := append(make([]byte, 0, 24), "all;dur="...)
	b = strconv.AppendInt(b, us/1000, 10)
	b = append(b, '.', byte('0'+us/100%10), byte('0'+us/10%10), byte('0'+us%10))
	return string(b)
}

// hitFor is the Cache-Status of a hit that is valid for so long. Most are good until
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
	setDeprecation(h, m, q)
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

// setDeprecation says by RFC 9745 and RFC 8594 that what is read is deprecated. Found
// are the types of entries whose type only the result tells.
func setDeprecation(h map[string][]string, m *model.Model, q *query.Query, found ...string) {
	_, days := sunset.Of(q, m, found...)
	if since, err := time.Parse(time.DateOnly, days.DeprecatedSince); err == nil {
		h["Deprecation"] = []string{"@" + strconv.FormatInt(since.Unix(), 10)}
	}
	if gone, err := time.Parse(time.DateOnly, days.Sunset); err == nil {
		h["Sunset"] = []string{gone.Format(http.TimeFormat)}
	}
}

// setDeprecationOf is tellFarewell for a result of which only itself tells the types.
func setDeprecationOf(h map[string][]string, m *model.Model, q *query.Query, res *query.Result) map[string][]string {
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
		setDeprecation(h, m, q, types...)
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
