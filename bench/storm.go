package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/core/rebuild"
)

// The storm: so many publishes in a minute, of entries that so many pages of all show.
const (
	stormPublishes = 1000
	stormTouches   = 20
	stormPages     = 200
	stormTook      = time.Minute
)

// weathered is a site that counts what it renders, and what of it it had to: pages of which
// something was published since they were rendered last.
type weathered struct {
	mu     sync.Mutex
	dirty  map[string]bool
	calls  int
	pages  int
	needed int
}

func (w *weathered) published(page string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.dirty[page] = true
}

// took counts a call to render pages.
func (w *weathered) took(pages []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.calls++
	for _, p := range pages {
		w.pages++
		if w.dirty[p] {
			w.needed++
			delete(w.dirty, p)
		}
	}
}

func (w *weathered) clean() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.dirty) == 0
}

func (w *weathered) says(what string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	fmt.Printf(
		"    %s: %d calls, %d pages rendered, of which %d had changed since they were last: %.2f of the least possible\n",
		what,
		w.calls,
		w.pages,
		w.needed,
		float64(w.pages)/float64(max(1, w.needed)),
	)
}

// storm has two sites of so many pages, one built and one refreshed, while entries are published that few of
// the pages show.
func (y *harness) storm(ctx context.Context) error {
	own, stop, err := ownService(ctx, automationModel)
	if err != nil {
		return err
	}
	defer stop()
	sites := map[string]*weathered{"refreshed": {dirty: map[string]bool{}}, "built": {dirty: map[string]bool{}}}
	keys := map[string]string{}
	begun := make(chan struct{}, 1) // the first build is that of everything
	mux := http.NewServeMux()
	mux.HandleFunc("/refreshed", func(w http.ResponseWriter, r *http.Request) {
		var event struct {
			Data struct{ Pages []struct{ Path string } }
		}
		_ = json.NewDecoder(r.Body).Decode(&event) // nothing else calls here
		done := []string{}
		for _, p := range event.Data.Pages {
			done = append(done, p.Path)
		}
		sites["refreshed"].took(done)
		_ = json.NewEncoder(w).Encode(map[string]any{"done": done})
	})
	mux.HandleFunc("/built", func(w http.ResponseWriter, r *http.Request) {
		var order struct {
			Build  string
			Number int64
			Pages  any
		}
		_ = json.NewDecoder(r.Body).Decode(&order)
		w.WriteHeader(http.StatusAccepted)
		go func() {
			asked := stormPaths(stormPages)
			if some, ok := order.Pages.([]any); ok {
				asked = nil
				for _, p := range some {
					asked = append(asked, p.(string))
				}
				sites["built"].took(asked)
			}
			c := &client.Client{Address: own.client.Address, Key: keys["built"]}
			_ = stormRender(ctx, c, fmt.Sprintf("build=\"%d\"", order.Number), asked) // else it shows in the figures
			_, _ = c.Do(ctx, http.MethodPost, "/control/v1/builds/"+order.Build+"/reports", nil,
				map[string]string{"state": "finished"})
			select {
			case begun <- struct{}{}:
			default:
			}
		}()
	})
	address, end, err := beside(mux)
	if err != nil {
		return err
	}
	defer end()
	for name, site := range map[string]rebuild.Site{
		"refreshed": {Address: address, Refresh: &rebuild.Refresh{Call: address + "/refreshed"}},
		"built":     {Address: address, Build: &rebuild.Call{Call: address + "/built"}},
	} {
		if err := put(ctx, own.client, "site", name, site); err != nil {
			return err
		}
		_, secret, err := own.client.Keys().Create(ctx, api.NewKey{
			Name: name, Site: name, Grants: []string{"read published *"},
		})
		if err != nil {
			return err
		}
		keys[name] = secret
	}
	for i := range 200 {
		if _, err := own.client.Entries().Edit(ctx, numbered(i)); err != nil {
			return err
		}
	}
	c := &client.Client{Address: own.client.Address, Key: keys["refreshed"]}
	if err := stormRender(ctx, c, `render="1"`, stormPaths(stormPages)); err != nil {
		return err
	}
	if _, err := own.client.Builds().Rebuild(ctx, "built", true); err != nil {
		return err
	}
	select {
	case <-begun:
	case <-ctx.Done():
		return ctx.Err()
	}
	if err := known(ctx, own.client, "refreshed", "built"); err != nil {
		return err
	}
	begin := time.Now()
	for i := range stormPublishes {
		e := i % stormTouches
		for _, s := range sites {
			s.published(fmt.Sprint("/page/", e))
		}
		if _, err := own.client.Entries().Edit(ctx, numbered(200*(i+1)+e)); err != nil {
			return err
		}
		time.Sleep(time.Until(begin.Add(time.Duration(i+1) * stormTook / stormPublishes)))
	}
	took := time.Since(begin)
	if err := until(ctx, func() (bool, error) {
		return sites["refreshed"].clean() && sites["built"].clean(), nil
	}); err != nil {
		return err
	}
	fmt.Printf("  %d publishes in %v that show on %d of %d pages; everything shown %v after the last\n", stormPublishes,
		took.Round(time.Second), stormTouches, stormPages, (time.Since(begin) - took).Round(time.Millisecond))
	sites["refreshed"].says("a site that is refreshed")
	sites["built"].says("a site that is built")
	return nil
}

func stormPaths(n int) (out []string) {
	for i := range n {
		out = append(out, fmt.Sprint("/page/", i))
	}
	return out
}

// stormRender reads what pages show: each one entry of its own.
func stormRender(ctx context.Context, c *client.Client, mark string, pages []string) error {
	for _, p := range pages {
		var i int
		if _, err := fmt.Sscanf(p, "/page/%d", &i); err != nil {
			return err
		}
		a, err := c.Do(ctx, http.MethodGet, fmt.Sprintf("/content/main/published/entries/n%d?fields=title", i%200),
			http.Header{"Ubiquon-Page": {fmt.Sprintf("%q; %s", p, mark)}}, nil)
		if err == nil {
			err = a.Err()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// known waits until it is known what the pages of sites are made of.
func known(ctx context.Context, c *client.Client, sites ...string) error {
	return until(ctx, func() (bool, error) {
		for _, name := range sites {
			found, err := c.Builds().Pages(ctx, api.PageFilter{Site: name, Limit: 1})
			if err != nil || found.Ledger.Pages < stormPages || found.Ledger.Unjudged > 0 {
				return false, err
			}
		}
		return true, nil
	})
}
