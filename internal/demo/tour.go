package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/events"
)

// tourEntry is what the tour changes in the harbour office.
const tourEntry = "R-1010"

const tourRead = "/content/main/published/dispatches?sort=-published&limit=5&fields=title,slug,writer(name)"

// Tour plays the whole way once, from an edit in the harbour office to the
// rebuilt page, and tells of it. Its error names the step that did not happen.
func (d *Demo) Tour(ctx context.Context, out io.Writer) error {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	node := d.Connection.Gateway
	if len(d.Connection.Nodes) > 0 {
		node = d.Connection.Nodes[0] // what another node holds is not what this one does
	}
	reader := &client.Client{Address: node, Key: d.Connection.Keys.Published}
	admin := &client.Client{Address: node, Key: d.Connection.Keys.Admin}
	say := func(format string, args ...any) { fmt.Fprintf(out, format+"\n", args...) }

	if err := tourReads(ctx, reader, admin, say); err != nil {
		return err
	}

	headline := "A library in a life raft, seen at " + time.Now().UTC().Format("15:04:05.000")
	say("\n2. Change and publish it in the harbour office")
	say("   headline: %q", headline)
	if err := d.atOffice(ctx, http.MethodPatch, "/api/reports/"+tourEntry,
		map[string]any{"headline": headline}); err != nil {
		return fmt.Errorf("step 2, saving in the harbour office: %w", err)
	}
	if err := d.atOffice(ctx, http.MethodPost, "/api/reports/"+tourEntry+"/publish", nil); err != nil {
		return fmt.Errorf("step 2, publishing in the harbour office: %w", err)
	}

	say("\n3. Wait for it to arrive")
	entry := content.MakeID("harbour-office", "dispatch", tourEntry)
	trace, err := awaitTrace(ctx, admin, entry, headline)
	if err != nil {
		return fmt.Errorf("step 3, the freshness trace: %w", err)
	}
	WriteTrace(out, trace.Trace, "   ")

	slug, err := tourReadsAgain(ctx, reader, headline, say)
	if err != nil {
		return err
	}

	address := d.Connection.Slipway + "/dispatches/" + slug + "/"
	say("\n5. Look at the rebuilt page")
	say("   GET %s", address)
	lines, err := changedLines(ctx, address, headline)
	if err != nil {
		return fmt.Errorf("step 5, the rebuilt page: %w", err)
	}
	for _, l := range lines {
		say("   %s", l)
	}
	say("\nEvery step happened.")
	return nil
}

// tourReads reads the list twice: the first answer is computed, the second is held.
func tourReads(
	ctx context.Context, reader, admin *client.Client, say func(format string, args ...any),
) error {
	say("1. Read the dispatches, twice")
	say("   GET %s", tourRead)
	for i, want := range []string{"fwd=miss", "hit"} {
		a, err := reader.Do(ctx, http.MethodGet, tourRead, nil, nil)
		if err == nil {
			err = a.Err()
		}
		if err != nil {
			return fmt.Errorf("step 1, reading the list: %w", err)
		}
		status := a.Header.Get("Cache-Status")
		if i == 0 && strings.Contains(status, "hit") {
			say("   (the list was still held from before; purging it)")
			if _, err := admin.Cache().Purge(ctx, api.CacheQuery{}); err != nil {
				return fmt.Errorf("step 1, purging: %w", err)
			}
			if a, err = reader.Do(ctx, http.MethodGet, tourRead, nil, nil); err != nil {
				return fmt.Errorf("step 1, reading the list: %w", err)
			}
			status = a.Header.Get("Cache-Status")
		}
		if !strings.Contains(status, want) {
			return fmt.Errorf(
				"step 1, reading the list: the %s answer says Cache-Status: %s, not %s",
				[]string{"first", "second"}[i], status, want,
			)
		}
		say(
			"   %d  Cache-Status: %-26s Ubiquon-Sequence: %s  %s", a.Status, status, a.Header.Get("Ubiquon-Sequence"),
			a.Header.Get("Server-Timing"),
		)
	}
	return nil
}

// tourReadsAgain reads the list and returns the slug of the dispatch with the headline.
func tourReadsAgain(
	ctx context.Context, reader *client.Client, headline string, say func(format string, args ...any),
) (string, error) {
	say("\n4. Read the list again")
	a, err := reader.Do(ctx, http.MethodGet, tourRead, nil, nil)
	if err == nil {
		err = a.Err()
	}
	if err != nil {
		return "", fmt.Errorf("step 4, reading the new answer: %w", err)
	}
	var list struct {
		Items []struct{ Title, Slug string }
	}
	if err := json.Unmarshal(a.Body, &list); err != nil {
		return "", fmt.Errorf("step 4, reading the new answer: %w", err)
	}
	slug := ""
	for _, item := range list.Items {
		mark := " "
		if item.Title == headline {
			slug, mark = item.Slug, ">"
		}
		say("   %s %s", mark, item.Title)
	}
	if slug == "" {
		return "", fmt.Errorf("step 4, reading the new answer: the list does not show the new headline")
	}
	say(
		"   %d  Cache-Status: %-26s Ubiquon-Sequence: %s", a.Status, a.Header.Get("Cache-Status"),
		a.Header.Get("Ubiquon-Sequence"),
	)
	return slug, nil
}

// atOffice sends a request to the harbour office.
func (d *Demo) atOffice(ctx context.Context, method, path string, body any) error {
	src, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return d.callOffice(ctx, method, path, bytes.NewReader(src), nil)
}

// callOffice sends a request to the harbour office, and reads its answer as JSON unless into is nil.
func (d *Demo) callOffice(ctx context.Context, method, path string, body io.Reader, into any) error {
	req, err := http.NewRequestWithContext(ctx, method, d.Connection.Office+path, body)
	if err != nil {
		return err
	}
	user, password, _ := strings.Cut(d.Connection.OfficeCredentials, ":")
	req.SetBasicAuth(user, password)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode/100 != 2 {
		text, _ := io.ReadAll(io.LimitReader(resp.Body, 300))
		return fmt.Errorf("the harbour office answered %s: %s", resp.Status, text)
	}
	if into == nil {
		return nil
	}
	return json.NewDecoder(resp.Body).Decode(into)
}

// awaitTrace waits until the publish of the entry is built.
func awaitTrace(ctx context.Context, c *client.Client, entry, headline string) (api.EventTrace, error) {
	last := api.EventTrace{}
	for {
		traces, err := c.Origins().Events(ctx, api.EventFilter{Entry: entry, Limit: 5})
		if err != nil {
			return last, err
		}
		for _, e := range traces {
			if e.Decoded == nil || e.Decoded.Kind != "published" || e.Title != headline {
				continue
			}
			last = e
			if e.State == events.EventFailed {
				return last, fmt.Errorf("the event failed: %s", e.Detail)
			}
			if e.Trace.Built != nil {
				return last, nil
			}
			break
		}
		select {
		case <-ctx.Done():
			return last, fmt.Errorf("not built in time; so far: %+v", last.Trace)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// WriteTrace writes a freshness trace, a line a step.
func WriteTrace(out io.Writer, t api.FreshnessTrace, indent string) {
	steps := []struct {
		name string
		at   *time.Time
		says string
	}{
		{"published", t.Published, "by the origin"},
		{"accepted", t.Accepted, "the hook is kept"},
		{"stored", t.Stored, "content and change log are written"},
		{"expired", t.Expired, "no older answer any more"},
		{"build called", t.Called, ""},
		{"build done", t.Built, ""},
		{"live", t.Live, "the pages have it, as visitors get them"},
	}
	var first, before *time.Time
	for _, s := range steps {
		if s.at == nil {
			fmt.Fprintf(out, "%s%-13s –\n", indent, s.name)
			continue
		}
		if first == nil {
			first, before = s.at, s.at
		}
		fmt.Fprintf(out, "%s%-13s %s  %9s  %9s  %s\n", indent, s.name, s.at.UTC().Format("15:04:05.000"),
			"+"+Span(s.at.Sub(*before)), "= "+Span(s.at.Sub(*first)), s.says)
		before = s.at
	}
}

// Span writes a duration with three digits that matter.
func Span(d time.Duration) string {
	switch {
	case d < 0:
		return "-" + Span(-d)
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.1f ms", d.Seconds()*1000)
	case d < time.Second:
		return fmt.Sprintf("%.0f ms", d.Seconds()*1000)
	case d < time.Minute:
		return fmt.Sprintf("%.2f s", d.Seconds())
	default:
		return d.Round(time.Second).String()
	}
}

func changedLines(ctx context.Context, address, text string) ([]string, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil || resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the slipway answered %s (%v)", resp.Status, err)
	}
	var out []string
	found := false
	for line := range strings.SplitSeq(string(body), "\n") {
		if strings.Contains(line, "ubiquon-sequence") || strings.Contains(line, "<h1>") {
			out = append(out, strings.TrimSpace(line))
		}
		found = found || strings.Contains(line, text)
	}
	if !found {
		return nil, fmt.Errorf("the page does not show %q", text)
	}
	return out, nil
}
