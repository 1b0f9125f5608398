package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/client"
)

// freshness publishes in the harbour office, and waits for the first answer,
// and the first page, that shows it.
func (y *harness) freshness(ctx context.Context) error {
	const publishes = 50
	reader := &client.Client{Address: y.demo.Connection.Gateway, Key: y.demo.Connection.Keys.Published}
	var answers, pages []time.Duration
	for i := range publishes {
		mark := fmt.Sprintf("The crane of Langvåg, lift %d", i)
		if err := y.office(ctx, http.MethodPatch, "/api/reports/R-1008",
			map[string]string{"headline": mark}); err != nil {
			return err
		}
		// Let the draft arrive, so that the publish alone is measured.
		time.Sleep(100 * time.Millisecond)
		begin := time.Now()
		if err := y.office(ctx, http.MethodPost, "/api/reports/R-1008/publish", nil); err != nil {
			return err
		}
		if err := until(ctx, func() (bool, error) {
			a, err := reader.Do(ctx, http.MethodGet,
				"/content/main/published/dispatches/the-crane-of-langvag?fields=title", nil, nil)
			return err == nil && bytes.Contains(a.Body, []byte(mark)), err
		}); err != nil {
			return err
		}
		answers = append(answers, time.Since(begin))
		if err := until(ctx, func() (bool, error) {
			resp, err := http.Get(y.demo.Connection.Slipway + "/dispatches/the-crane-of-langvag/")
			if err != nil {
				return false, err
			}
			defer resp.Body.Close()
			page, err := io.ReadAll(resp.Body)
			return bytes.Contains(page, []byte(mark)), err
		}); err != nil {
			return err
		}
		pages = append(pages, time.Since(begin))
	}
	for _, m := range []struct {
		name  string
		spans []time.Duration
	}{{"publish to the first fresh answer", answers}, {"publish to the rebuilt page (quiet is 300 ms)", pages}} {
		slices.Sort(m.spans)
		fmt.Printf(
			"  %-46s p50 %v, p95 %v, worst %v, over %d\n",
			m.name,
			m.spans[publishes/2].Round(100*time.Microsecond),
			m.spans[publishes*95/100].Round(
				100*time.Microsecond,
			),
			m.spans[publishes-1].Round(100*time.Microsecond),
			publishes,
		)
	}
	return nil
}

func (y *harness) office(ctx context.Context, method, path string, body any) error {
	src, err := json.Marshal(body)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, method, y.demo.Connection.Office+path, bytes.NewReader(src))
	if err != nil {
		return err
	}
	user, password, _ := strings.Cut(y.demo.Connection.OfficeCredentials, ":")
	req.SetBasicAuth(user, password)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	resp.Body.Close()
	if resp.StatusCode/100 != 2 {
		return fmt.Errorf("the harbour office answered %s", resp.Status)
	}
	return nil
}

// until asks again and again, a millisecond apart, for ten seconds.
func until(ctx context.Context, there func() (bool, error)) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	for {
		ok, err := there()
		if ok || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Millisecond):
		}
	}
}
