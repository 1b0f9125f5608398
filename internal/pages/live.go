package pages

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/net/html"

	"ubiquon/internal/background"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	stored "ubiquon/internal/store/pages"
)

const (
	// mostProbed bounds the pages that are looked at for one change.
	mostProbed = 20
	// mostOfPage bounds what is read of a page, in bytes; the mark stands in its head.
	mostOfPage = 256 << 10
	// probePatience is how long a page is looked at for one change.
	probePatience = time.Hour
	// probeAgain is the wait after a look at one page before it is asked for the next.
	probeAgain = time.Millisecond
	// probeIdle is how often it is asked whether there is something to look at, if nothing wakes it.
	probeIdle = 5 * time.Second
	probeUser = "Ubiquon-Probe/1.0"
	// sequenceHeader is the header in which a page may say which state it shows.
	sequenceHeader = "Ubiquon-Sequence"
)

// watch has the pages that are stale by news looked at until visitors get it, a sample where they are many.
func (k *keeper) watch(ctx context.Context, tx pgx.Tx, site *rebuild.Site, judged []stored.Judged) error {
	if site.Live == nil {
		return nil
	}
	var news []stored.Judged
	for i := range judged {
		if judged[i].News() && strings.HasPrefix(judged[i].Path, "/") {
			news = append(news, judged[i])
		}
	}
	if n := len(news); n > mostProbed {
		for i := range mostProbed {
			news[i] = news[i*n/mostProbed]
		}
		news = news[:mostProbed]
	}
	if len(news) == 0 {
		return nil
	}
	k.watched = true
	return k.s.store.Live.Watch(ctx, tx, k.site, news)
}

// probe looks at the pages of the site, one at a time, until ctx ends.
func (k *keeper) probe(ctx context.Context) {
	for {
		site := k.s.o.Settings.State().Sites[k.site]
		wait := probeIdle
		if site.Live != nil && !site.Off {
			next, err := k.probeOne(ctx, &site)
			if err != nil && ctx.Err() == nil {
				k.s.work.Failures.Failed(k.s.log, "pages cannot be looked at", "site", k.site, "error", err)
			} else if next > 0 {
				wait = next
			}
		}
		if !background.Sleep(ctx, wait, k.probes) {
			return
		}
	}
}

// probeOne looks at one page, if it is time, and returns how long to wait before the next; 0: until there
// is something.
func (k *keeper) probeOne(ctx context.Context, site *rebuild.Site) (time.Duration, error) {
	expect := site.Live.ExpectLive.Or(rebuild.DefaultExpectLive)
	one, wait, err := k.s.store.Live.NextProbe(ctx, k.site, expect)
	if err != nil || one == nil {
		return wait, err
	}
	at, found, err := k.s.look(ctx, site, one)
	if ctx.Err() != nil {
		return 0, ctx.Err()
	}
	age := one.Now.Sub(one.Changed)
	switch {
	case err == nil && at >= one.Sequence:
		k.s.replica.News().Tell("pages")
		return probeAgain, k.s.store.Live.Seen(ctx, k.site, one.Path, at)
	case err != nil:
		found = err.Error()
	}
	late := age > expect && !one.Late
	if late {
		k.s.o.Signal(ctx, rule.PageLate, k.site, fmt.Sprintf("%s does not show change %d after %s: %s", one.Path,
			one.Sequence, age.Round(time.Second), found), 0)
	}
	again := min(max(age/4, 100*time.Millisecond), 30*time.Second)
	if age > probePatience {
		again = 0
	}
	return probeAgain, k.s.store.Live.NotSeen(ctx, k.site, one, found, again, late)
}

// look asks for a page as a visitor does, and returns the sequence of the state that it shows, and what it
// has otherwise.
func (s *Service) look(ctx context.Context, site *rebuild.Site, one *stored.Probe) (int64, string, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, strings.TrimSuffix(site.Address, "/")+one.Path, nil)
	if err != nil {
		return 0, "", err
	}
	req.Header.Set("User-Agent", probeUser)
	req.Header.Set("Accept", "text/html,*/*;q=0.8")
	resp, err := s.prober.Do(req)
	if err != nil {
		return 0, "", err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, mostOfPage))
	switch {
	case one.Gone && (resp.StatusCode == http.StatusNotFound || resp.StatusCode == http.StatusGone):
		return one.Sequence, "", nil
	case err != nil:
		return 0, "", err
	case resp.StatusCode != http.StatusOK:
		return 0, "it answers " + resp.Status, nil
	}
	text := resp.Header.Get(sequenceHeader)
	if text == "" {
		text = markOf(body, site.Live.Mark)
	}
	if text == "" {
		return 0, "it has no mark", nil
	}
	at, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
	if err != nil {
		return 0, "", errors.New("its mark is no sequence")
	}
	return at, "it shows sequence " + strconv.FormatInt(at, 10), nil
}

// markOf finds the content of the meta element of a name in an HTML page; "" if there is none.
func markOf(page []byte, name string) string {
	if name == "" {
		name = rebuild.DefaultMark
	}
	z := html.NewTokenizer(bytes.NewReader(page))
	for {
		switch z.Next() {
		case html.ErrorToken:
			return ""
		case html.StartTagToken, html.SelfClosingTagToken:
			token := z.Token()
			if token.Data != "meta" {
				continue
			}
			said := map[string]string{}
			for _, a := range token.Attr {
				said[a.Key] = a.Val
			}
			if said["name"] == name {
				return said["content"]
			}
		}
	}
}
