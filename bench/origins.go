package main

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/outbound"
)

// origins measures folders and repositories of many files: the first import, and how long a change takes
// until it is delivered; what each proof and form of announcement costs; and a comparison in which
// nothing has changed.
func (y *harness) origins(ctx context.Context) error {
	c := &client.Client{Address: y.demo.Connection.Gateway, Key: y.demo.Connection.Keys.Admin}
	dir := filepath.Join(y.demo.Data, "bench-folder")
	if err := os.MkdirAll(filepath.Join(dir, "tables"), 0o755); err != nil {
		return err
	}
	files := min(y.entries, 20_000)
	for i := range files {
		if err := writeTable(dir, i, "as usual"); err != nil {
			return err
		}
	}
	spec := func(pull string) string {
		return `{"pull": ` + pull + `, "prove": {"none": true}, "decode": "bare", "every": "1h", "types": {"tide":
			{"from": "tables/*.md", "fields": {"title": "$.front.title", "slug": "$.name", "high": "$.front.high",
			"text": {"markdown": "$.body"}}}}}`
	}
	if err := y.folderOf(ctx, c, dir, files, "bench-folder", spec(`{"folder": `+strconv.Quote(dir)+`}`), nil); err != nil {
		return err
	}
	git := func(args ...string) error {
		cmd := exec.CommandContext(ctx, "git", args...)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("git %v: %w %s", args, err, out)
		}
		return nil
	}
	for _, args := range [][]string{
		{"init", "-q", "-b", "main"},
		{"config", "user.name", "Jon Askvoll"},
		{"config", "user.email", "jon@skerry.example"},
		{"add", "-A"},
		{"commit", "-q", "-m", "All tables"},
	} {
		if err := git(args...); err != nil {
			return err
		}
	}
	push := func() error {
		if err := git("commit", "-q", "-a", "-m", "One table"); err != nil {
			return err
		}
		return announce(ctx, c.Address+"/hooks/bench-git", nil, []byte("{}"))
	}
	pull := `{"git": {"address": ` + strconv.Quote(dir) + `, "branch": "main"}}`
	if err := y.folderOf(ctx, c, dir, files, "bench-git", spec(pull), push); err != nil {
		return err
	}
	return y.proofs(ctx, c)
}

func writeTable(dir string, i int, says string) error {
	text := fmt.Sprintf(
		"---\ntitle: Table %d\nhigh: [\"00:%02d\", \"12:%02d\"]\n---\n\nThe water is **%s** at pier %d.\n",
		i,
		i%60,
		i%60,
		says,
		i,
	)
	return os.WriteFile(filepath.Join(dir, "tables", fmt.Sprintf("table-%05d.md", i)), []byte(text), 0o600)
}

// folderOf measures one origin of files, and lets go of it.
func (y *harness) folderOf(
	ctx context.Context, c *client.Client, dir string, files int, name, spec string, after func() error,
) error {
	begun := time.Now()
	if _, err := c.Settings().Put(ctx, "origin", name, []byte(spec), 0, false); err != nil {
		return err
	}
	for {
		all, err := c.Origins().List(ctx)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(all, func(o api.OriginState) bool { return o.Name == name })
		if i >= 0 && all[i].Compared != nil {
			if all[i].Compared.Done == nil || all[i].Compared.Done.BadItems > 0 {
				return fmt.Errorf("%s: %+v", name, all[i].Compared)
			}
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	took := time.Since(begun)
	fmt.Printf("  %s: %d files imported in %s, %.0f a second\n", name, files, took.Round(time.Second/10),
		float64(files)/took.Seconds())
	begun = time.Now()
	done, err := c.Origins().Reconcile(ctx, name, false, nil)
	if err != nil {
		return err
	}
	fmt.Printf(
		"  %s: compared, unchanged, in %s; %d changes\n",
		name,
		time.Since(begun).Round(time.Millisecond),
		done.Changed,
	)
	var spans []time.Duration
	for i := range 10 * y.rounds {
		n := (i * 37) % files
		says := fmt.Sprintf("%s, time %d", name, i)
		at := fmt.Sprintf("%s/content/main/published/tides/table-%05d?fields=text(plain)", c.Address, n)
		begun := time.Now()
		if err := writeTable(dir, n, says); err != nil {
			return err
		}
		if after != nil {
			if err := after(); err != nil {
				return err
			}
		}
		for {
			body, err := bodyOf(ctx, at, y.demo.Connection.Keys.Published)
			if err != nil {
				return err
			}
			if bytes.Contains(body, []byte(says)) {
				break
			}
			if time.Since(begun) > 30*time.Second {
				return fmt.Errorf("%s: a change is not delivered", name)
			}
			time.Sleep(2 * time.Millisecond)
		}
		spans = append(spans, time.Since(begun))
	}
	slices.Sort(spans)
	fmt.Printf(
		"  %s: one changed file → delivered: p50 %s, p95 %s\n",
		name,
		spans[len(spans)/2].Round(time.Millisecond),
		spans[len(spans)*95/100].Round(time.Millisecond),
	)
	if err := c.Settings().Remove(ctx, "origin", name); err != nil {
		return err
	}
	_, err = c.Origins().Retire(ctx, name, "delete", true, nil)
	return err
}

func bodyOf(ctx context.Context, address, key string) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+key)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	return io.ReadAll(resp.Body)
}

// announce posts to a hook.
func announce(ctx context.Context, address string, h http.Header, body []byte) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	for name, values := range h {
		req.Header[name] = values
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	if resp.StatusCode != http.StatusAccepted && resp.StatusCode != http.StatusOK {
		return fmt.Errorf("%s: %s %s", address, resp.Status, text)
	}
	return nil
}

// proofs measures how long announcements take until what they announce is applied everywhere, for some
// proofs and forms; the first is the reference.
func (y *harness) proofs(ctx context.Context, c *client.Client) error {
	const secret = "whsec_c2tlcnJ5LWxpbmUtc2VjcmV0LW9uZQ=="
	if err := c.Settings().SetSecret(ctx, "bench", secret); err != nil {
		return err
	}
	event := `{"specversion":"1.0","id":"%d","source":"/bench","type":"x.published","subject":"notice/a"}`
	var first time.Duration
	for i, way := range []struct {
		name, prove, decode, body string
		sign                      func(h http.Header, id string, body []byte) error
	}{
		{
			"standardWebhooks, cloudevents", `{"standardWebhooks": "secret:bench"}`, `"cloudevents"`, event,
			func(h http.Header, id string, body []byte) error {
				h.Set("Content-Type", "application/cloudevents+json")
				return outbound.Sign(h, secret, id, time.Now(), body)
			},
		},
		{
			"hmac, json", `{"hmac": {"header": "X-Signature", "secret": "secret:bench"}}`, `{"json": {"key": "$.key"}}`,
			`{"key": "a", "n": %d}`, func(h http.Header, _ string, body []byte) error {
				mac := hmac.New(sha256.New, []byte(secret))
				mac.Write(body)
				h.Set("X-Signature", hex.EncodeToString(mac.Sum(nil)))
				return nil
			},
		},
		{
			"basic, form", `{"basic": "secret:bench"}`, `{"form": {"key": "$.key"}}`, `key=a&n=%d`,
			func(h http.Header, _ string, _ []byte) error {
				h.Set("Content-Type", "application/x-www-form-urlencoded")
				(&http.Request{Header: h}).SetBasicAuth("", "")
				return nil
			},
		},
	} {
		if way.name == "basic, form" {
			if err := c.Settings().SetSecret(ctx, "bench", ":"); err != nil {
				return err
			}
		}
		spec := `{"pull": {"push": true}, "prove": ` + way.prove + `, "decode": ` + way.decode +
			`, "types": {"notice": {"fields": {"title": "$.title", "severity": {"value": "information"}}}}}`
		name := fmt.Sprint("bench-hook-", i)
		if _, err := c.Settings().Put(ctx, "origin", name, []byte(spec), 0, false); err != nil {
			return err
		}
		if _, err := c.Origins().Push(ctx, "main", name, "", "a", map[string]any{"title": way.name}); err != nil {
			return err
		}
		var spans []time.Duration
		for n := range 40 * y.rounds {
			body := fmt.Appendf(nil, way.body, n)
			h := http.Header{"Prefer": {"wait=5"}}
			if err := way.sign(h, fmt.Sprint(name, n), body); err != nil {
				return err
			}
			begun := time.Now()
			if err := announce(ctx, c.Address+"/hooks/"+name, h, body); err != nil {
				return err
			}
			spans = append(spans, time.Since(begun))
		}
		slices.Sort(spans)
		p95 := spans[len(spans)*95/100]
		if i == 0 {
			first = p95
		}
		fmt.Printf(
			"  hook, %s: received → carried out p50 %s, p95 %s, %.2f of the first\n",
			way.name,
			spans[len(spans)/2].Round(
				100*time.Microsecond,
			),
			p95.Round(100*time.Microsecond),
			float64(p95)/float64(first),
		)
		if err := c.Settings().Remove(ctx, "origin", name); err != nil {
			return err
		}
		if _, err := c.Origins().Retire(ctx, name, "delete", true, nil); err != nil {
			return err
		}
	}
	return nil
}
