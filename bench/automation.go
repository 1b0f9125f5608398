package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/outbound"
	"ubiquon/internal/service"
)

const automationModel = `
locales: {en: {}, nb: {fallback: [en]}}
types:
  notice:
    plural: notices
    path: /notices/{slug}
    fields:
      title:    {kind: text, translated: true, required: true}
      slug:     {kind: slug, madeFrom: title}
      severity: {kind: choice, options: {information: Information, delay: Delay, cancelled: Cancelled}}
      number:   {kind: integer}
`

// pager takes the calls of rules, and keeps when each came.
type pager struct {
	mu    sync.Mutex
	calls map[string]int // by the call's id
	about map[string]map[string]bool
	late  []time.Duration // from the commit to the call
}

func newPager() *pager { return &pager{calls: map[string]int{}, about: map[string]map[string]bool{}} }

func (p *pager) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	at := time.Now()
	body, _ := io.ReadAll(r.Body)
	var told struct {
		ID   string
		Data rule.Occurrence
	}
	_ = json.Unmarshal(body, &told) // builds have another form
	p.mu.Lock()
	defer p.mu.Unlock()
	p.calls[told.ID]++
	if what := fmt.Sprint(told.Data.Entry, " ", told.Data.Sequence); told.Data.Entry != "" {
		if p.about[what] == nil {
			p.about[what] = map[string]bool{}
		}
		p.about[what][told.ID] = true
		p.late = append(p.late, at.Sub(told.Data.At))
	}
}

// automation measures what rules cost, how soon they act, and that nothing is lost or doubled.
func (y *harness) automation(ctx context.Context) error {
	own, stop, err := ownService(ctx, automationModel)
	if err != nil {
		return err
	}
	defer stop()
	p := newPager()
	address, end, err := beside(p)
	if err != nil {
		return err
	}
	defer end()
	for _, f := range []func(context.Context, *client.Client, *pager, string) error{
		y.latency, y.addedTime, y.coalesced,
	} {
		if err := f(ctx, own.client, p, address); err != nil {
			return err
		}
	}
	if err := y.inForce(ctx); err != nil {
		return err
	}
	return y.killed(ctx, p, address)
}

func put(ctx context.Context, c *client.Client, kind, name string, spec any) error {
	src, err := json.Marshal(spec)
	if err != nil {
		return err
	}
	_, err = c.Settings().Put(ctx, kind, name, src, 0, false)
	return err
}

func numbered(i int) api.Edit {
	return api.Edit{ID: fmt.Sprint("n", i%200), Type: "notice", Do: "publish", Save: map[string]any{
		"title": map[string]any{"en": fmt.Sprint("Notice ", i)}, "severity": "delay", "number": i,
	}}
}

// spread is the median and the 99th percentile.
func spread(all []time.Duration) (p50, p99 time.Duration) {
	slices.Sort(all)
	if len(all) == 0 {
		return 0, 0
	}
	return all[len(all)/2], all[min(len(all)-1, len(all)*99/100)]
}

// published is the number of the last notice.
var published int

// publishing publishes so many notices, one each span, and returns how long each took.
func publishing(ctx context.Context, c *client.Client, n int, every time.Duration) (took []time.Duration, err error) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for range n {
		published++ // each differs from all before
		begin := time.Now()
		if _, err := c.Entries().Edit(ctx, numbered(published)); err != nil {
			return nil, err
		}
		took = append(took, time.Since(begin))
		<-tick.C
	}
	return took, nil
}

func (y *harness) latency(ctx context.Context, c *client.Client, p *pager, address string) error {
	if err := put(ctx, c, "rule", "call", rule.Rule{
		On: []string{"published"}, Types: []string{"notice"}, When: "entry.number >= 0",
		Do: []rule.Step{{Call: &rule.Call{Address: address + "/call"}}},
	}); err != nil {
		return err
	}
	const n = 200
	if _, err := publishing(ctx, c, n, 50*time.Millisecond); err != nil {
		return err
	}
	if err := until(ctx, func() (bool, error) { return p.count() >= n, nil }); err != nil {
		return err
	}
	p.mu.Lock()
	p50, p99 := spread(slices.Clone(p.late))
	p.mu.Unlock()
	fmt.Printf("  from the commit to the first step's call: p50 %v, p99 %v (%d publishes)\n", p50.Round(time.Millisecond),
		p99.Round(time.Millisecond), n)
	return c.Settings().Remove(ctx, "rule", "call")
}

func (p *pager) count() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.late)
}

func (y *harness) addedTime(ctx context.Context, c *client.Client, _ *pager, address string) error {
	const n, rules = 250, 50
	var without, with []time.Duration
	for range 2 {
		more, err := publishing(ctx, c, n, 60*time.Millisecond)
		if err != nil {
			return err
		}
		without = append(without, more...)
		for i := range rules {
			if err := put(ctx, c, "rule", fmt.Sprint("rule ", i), rule.Rule{
				On: []string{"published", "saved"}, When: fmt.Sprintf(
					"type = 'notice' AND entry.severity = 'cancelled' AND entry.number > %d AND A_CONTAINS(changed, ('title'))", i,
				), Do: []rule.Step{{Call: &rule.Call{Address: address + "/call"}}},
			}); err != nil {
				return err
			}
		}
		if more, err = publishing(ctx, c, n, 60*time.Millisecond); err != nil {
			return err
		}
		with = append(with, more...)
		for i := range rules {
			if err := c.Settings().Remove(ctx, "rule", fmt.Sprint("rule ", i)); err != nil {
				return err
			}
		}
	}
	a50, a99 := spread(without)
	b50, b99 := spread(with)
	st, err := c.Status(ctx)
	if err != nil {
		return err
	}
	fmt.Printf("  changes that no rule has looked at by then: %d\n", st.Backlog.RulesBehind)
	fmt.Printf("  a publish, 1000 a minute: without rules p50 %v, p99 %v; with %d: p50 %v, p99 %v; ratio of p50 %.2f\n",
		a50.Round(10*time.Microsecond), a99.Round(10*time.Microsecond), rules, b50.Round(10*time.Microsecond),
		b99.Round(10*time.Microsecond), float64(b50)/float64(a50))
	return nil
}

func (y *harness) coalesced(ctx context.Context, c *client.Client, _ *pager, address string) error {
	const quiet, most, span = 500 * time.Millisecond, 3 * time.Second, 12 * time.Second
	if err := put(ctx, c, "site", "web", map[string]any{"address": address, "build": map[string]any{
		"call": address + "/build", "quiet": quiet.String(), "atMost": most.String(), "reports": "none",
	}}); err != nil {
		return err
	}
	if err := put(ctx, c, "rule", "build", rule.Rule{
		On: []string{"published"}, Types: []string{"notice"}, Do: []rule.Step{{Rebuild: &rule.Rebuild{Site: "web"}}},
	}); err != nil {
		return err
	}
	begin := time.Now()
	if _, err := publishing(ctx, c, int(span/(60*time.Millisecond)), 60*time.Millisecond); err != nil {
		return err
	}
	took := time.Since(begin)
	if err := until(ctx, func() (bool, error) {
		all, err := c.Builds().List(ctx, "web", 100)
		return err == nil && len(all) > 0 && all[0].State == "finished", err
	}); err != nil {
		return err
	}
	all, err := c.Builds().List(ctx, "web", 100)
	if err != nil {
		return err
	}
	fmt.Printf("  builds of %v of publishes: %d; the least that quiet and atMost allow: %d\n", took.Round(time.Second),
		len(all), int((took+most-1)/most))
	return c.Settings().Remove(ctx, "rule", "build")
}

// inForce measures how long a change of a rule takes until three nodes have it.
func (y *harness) inForce(ctx context.Context) error {
	m, err := readModel(automationModel)
	if err != nil {
		return err
	}
	var nodes []*client.Client
	for i := range 3 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		s, err := service.Open(ctx, service.Options{
			Database: y.database, Environment: "inforce", Listener: l, Model: m, Name: fmt.Sprint("node ", i),
		})
		if err != nil {
			return err
		}
		defer s.Close()
		if err := s.Start(ctx); err != nil {
			return err
		}
		if i == 0 {
			key, err := s.FirstKey(ctx)
			if err != nil {
				return err
			}
			nodes = append(nodes, &client.Client{Address: s.Address, Key: key})
			continue
		}
		nodes = append(nodes, &client.Client{Address: s.Address, Key: nodes[0].Key})
	}
	var took []time.Duration
	for i := range 60 {
		begin := time.Now()
		if err := put(ctx, nodes[0], "rule", "wait", rule.Rule{
			Description: fmt.Sprint(i), On: []string{"published"}, Do: []rule.Step{{Wait: &rule.Wait{For: 1e9}}},
		}); err != nil {
			return err
		}
		for _, n := range nodes[1:] {
			if err := until(ctx, func() (bool, error) {
				got, err := n.Settings().Get(ctx, "rule", "wait")
				return err == nil && got.Version == int64(i+1), nil
			}); err != nil {
				return err
			}
		}
		took = append(took, time.Since(begin))
	}
	p50, p99 := spread(took)
	fmt.Printf("  a rule changed → in force on three nodes: p50 %v, p99 %v\n", p50.Round(time.Millisecond),
		p99.Round(time.Millisecond))
	return nil
}

// killed kills the service in the middle of its steps, again and again, and counts what was lost
// and doubled.
func (y *harness) killed(ctx context.Context, p *pager, address string) error {
	dir, err := os.MkdirTemp("/tmp", "ubiquon-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	binary := filepath.Join(dir, "ubiquon")
	if out, err := exec.Command("go", "build", "-o", binary, "./cmd/ubiquon").CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	for name, text := range map[string]string{
		"model.yaml": automationModel,
		"rules.yaml": fmt.Sprintf("rules:\n  - name: call\n    on: [published]\n    when: entry.number >= 0\n    do:\n"+
			"      - call: {address: %q}\n      - call: {address: %q}\n", address+"/first", address+"/second"),
		"ubiquon.yaml": "environment: killed\nmodel: model.d\nrules: rules.yaml\noutbound: {private: true}\ndrain: 1ms\n",
	} {
		file := filepath.Join(dir, name)
		if name == "model.yaml" {
			if err := os.Mkdir(filepath.Join(dir, "model.d"), 0o755); err != nil {
				return err
			}
			file = filepath.Join(dir, "model.d", name)
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			return err
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	at := l.Addr().String()
	l.Close()
	c := &client.Client{Address: "http://" + at}
	serve := func() (*exec.Cmd, error) {
		cmd := exec.CommandContext(ctx, binary, "serve", "--config", filepath.Join(dir, "ubiquon.yaml"), "--listen", at,
			"--database", y.database)
		out := &strings.Builder{}
		cmd.Stdout = out
		if err := cmd.Start(); err != nil {
			return nil, err
		}
		return cmd, until(ctx, func() (bool, error) {
			if c.Key == "" {
				if i := strings.Index(out.String(), "ubq_"); i >= 0 {
					c.Key = strings.Fields(out.String()[i:])[0]
				}
			}
			a, err := c.Do(ctx, http.MethodGet, "/health/ready", nil, nil)
			return err == nil && a.Status == 200 && c.Key != "", nil
		})
	}
	p.mu.Lock()
	clear(p.calls)
	clear(p.about)
	p.mu.Unlock()
	const kills, each = 20, 12
	total := 0
	for k := range kills {
		cmd, err := serve()
		if err != nil {
			return err
		}
		for i := range each {
			e := numbered(k*each + i)
			e.ID = fmt.Sprintf("k%d", k*each+i)
			if _, err := c.Entries().Edit(ctx, e); err != nil {
				return err
			}
			total++
		}
		// In the middle of what follows from the last ones.
		time.Sleep(time.Duration(k%5) * 4 * time.Millisecond)
		if err := cmd.Process.Kill(); err != nil {
			return err
		}
		_ = cmd.Wait() // it was killed
	}
	cmd, err := serve()
	if err != nil {
		return err
	}
	defer func() { _ = cmd.Process.Kill() }()
	done := func() (n int, err error) {
		for _, outcome := range []string{"done"} {
			all, err := c.Settings().Runs(ctx, api.RuleRunFilter{Rule: "call", Outcome: outcome, Limit: 500})
			if err != nil {
				return 0, err
			}
			n += len(all)
		}
		return n, nil
	}
	within, cancel := context.WithTimeout(ctx, 3*time.Minute)
	defer cancel()
	n := 0
	for n < total && within.Err() == nil {
		if n, err = done(); err != nil {
			return err
		}
		time.Sleep(200 * time.Millisecond)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	lost, doubled, repeated := 0, 0, 0
	for i := range total {
		steps := 0
		for what, ids := range p.about {
			if strings.HasPrefix(what, fmt.Sprintf("k%d ", i)) {
				steps += len(ids)
			}
		}
		lost += max(0, 2-steps)
		doubled += max(0, steps-2)
	}
	for _, times := range p.calls {
		repeated += times - 1
	}
	fmt.Printf("  %d × kill -9, %d publishes of two steps: %d runs done, %d steps lost, %d doubled; %d calls made again "+
		"with the same id\n", kills, total, n, lost, doubled, repeated)
	return nil
}

// reachable lets the services of measurements call this machine.
var reachable = outbound.Options{Private: true}
