package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"ubiquon/internal/demo"
)

// The attacks come over so many connections, at a rate that costs an attacker nothing.
const (
	attackers  = 24
	attackRate = 240 // a second, all together
	readerRate = 200
)

// attack is one way to be dear.
type attack struct {
	name    string
	request func(i int) *http.Request
	// streams are opened and kept.
	streams bool
}

// abuse runs attacks on a service in a process of its own, beside a reader whose answers
// are in the cache, and prints how long that one waits: against when nobody attacks, and
// against the same requests sent to a handler that refuses them at once. The attacker is a
// process of its own too, of the lowest priority: it takes the processor time that is left
// over, as if it had a machine of its own. The service must stay ready, and keep to its
// memory.
func (y *harness) abuse(ctx context.Context) error {
	target, err := startService(ctx)
	if err != nil {
		return err
	}
	defer target.stop()
	refusing, stop, err := beside(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, io.LimitReader(r.Body, 4<<10))
		w.WriteHeader(http.StatusForbidden)
	}))
	if err != nil {
		return err
	}
	defer stop()
	span := time.Duration(y.seconds) * time.Second
	fmt.Printf(
		"  %-32s %-20s %-20s %-20s %s\n", "a reader of hits: p50, p99", "undisturbed", "beside refusals",
		"beside the attack", "p99 to undisturbed, to refusals; memory at most; ready",
	)
	worst := 0.0
	for _, a := range attacks(&target.card) {
		var quiet, refused, attacked []seen
		for range y.rounds {
			quiet = append(quiet, target.watched(ctx, span, nil, ""))
			refused = append(refused, target.watched(ctx, span, &a, refusing))
			attacked = append(attacked, target.watched(ctx, span, &a, target.card.Gateway))
		}
		q, r, w := middle(quiet), middle(refused), middle(attacked)
		ratio := float64(w.p99) / float64(q.p99)
		worst = max(worst, ratio)
		ready := "always"
		if w.unready > 0 {
			ready = fmt.Sprintf("not %d times", w.unready)
		}
		fmt.Printf(
			"  %-32s %-20s %-20s %-20s %.2f, %.2f; %d MB; %s\n", a.name, q, r, w, ratio,
			float64(w.p99)/float64(r.p99), w.memory>>20, ready,
		)
	}
	fmt.Printf("  worst p99 to undisturbed: %.2f\n", worst)
	return nil
}

// subject is a demo in a process of its own.
type subject struct {
	card demo.ConnectionInfo
	data string // its directory
	pid  int
	stop func()
}

// startService builds and starts a demo on free ports.
func startService(ctx context.Context) (*subject, error) {
	dir, err := os.MkdirTemp("/tmp", "ubiquon-abuse-")
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		return nil, err
	}
	binary := filepath.Join(dir, "ubiquon")
	if out, err := exec.CommandContext(ctx, "go", "build", "-o", binary, "./cmd/ubiquon").CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	data := filepath.Join(dir, "data")
	cmd := exec.Command(
		binary, "demo", "--data", data, "--free-ports",
	)
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	s := &subject{data: data, pid: cmd.Process.Pid}
	s.stop = func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait() // it was told to end
		_ = os.RemoveAll(dir)
	}
	for wait := time.Now().Add(time.Minute); time.Now().Before(wait); time.Sleep(100 * time.Millisecond) {
		src, err := os.ReadFile(demo.CardFile(data))
		if err == nil && json.Unmarshal(src, &s.card) == nil && s.card.Gateway != "" {
			if status, err := get(ctx, s.card.Gateway+reading, s.card.Keys.Published); err == nil &&
				status == http.StatusOK {
				return s, nil
			}
		}
	}
	s.stop()
	return nil, errors.New("the demo does not start")
}

// memory is what the process holds, in bytes.
func (s *subject) memory() int64 {
	src, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.pid)) // 0 when it is gone
	_, rest, _ := strings.Cut(string(src), "VmRSS:")
	fields := strings.Fields(rest)
	if len(fields) == 0 {
		return 0
	}
	kilobytes, _ := strconv.ParseInt(fields[0], 10, 64)
	return kilobytes << 10
}

// seen is what a reader has met.
type seen struct {
	p50, p99 time.Duration
	unready  int64
	memory   int64 // bytes, at most
}

func (s seen) String() string {
	return fmt.Sprintf("%s, %s", s.p50.Round(10*time.Microsecond), s.p99.Round(10*time.Microsecond))
}

func middle(all []seen) seen {
	slices.SortFunc(all, func(a, b seen) int { return int(a.p99 - b.p99) })
	out := all[len(all)/2]
	for _, s := range all {
		out.unready, out.memory = max(out.unready, s.unready), max(out.memory, s.memory)
	}
	return out
}

// attackFrom is the argument with which this program is the attacker: it reads from its
// input, as JSON, what to attack.
const attackFrom = "attack-from-input"

// order is what an attacker is told.
type order struct {
	Attack, Target string
	Card           demo.ConnectionInfo
}

// attackFromInput attacks until the program is killed.
func attackFromInput(in io.Reader) error {
	if err := syscall.Setpriority(syscall.PRIO_PROCESS, 0, 19); err != nil {
		return err
	}
	var o order
	if err := json.NewDecoder(in).Decode(&o); err != nil {
		return err
	}
	for _, a := range attacks(&o.Card) {
		if a.name == o.Attack {
			a.run(context.Background(), o.Target)
		}
	}
	return fmt.Errorf("there is no attack %q", o.Attack)
}

// attacked has a process attack an address until ctx ends.
func (s *subject) attacked(ctx context.Context, a *attack, target string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	src, err := json.Marshal(order{a.name, target, s.card})
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, self, attackFrom)
	cmd.Stdin, cmd.Stderr = bytes.NewReader(src), os.Stderr
	if err := cmd.Start(); err != nil {
		return err
	}
	go func() { _ = cmd.Wait() }() // it is killed
	return nil
}

// watched has the reader read for a span beside an attack on an address.
func (s *subject) watched(ctx context.Context, span time.Duration, a *attack, target string) seen {
	ctx, cancel := context.WithTimeout(ctx, span+500*time.Millisecond)
	defer cancel()
	var out seen
	var wg sync.WaitGroup
	if a != nil {
		if err := s.attacked(ctx, a, target); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
		}
		time.Sleep(500 * time.Millisecond) // it is under way
	}
	wg.Go(func() {
		for ctx.Err() == nil {
			out.memory = max(out.memory, s.memory())
			resp, err := get(ctx, s.card.Gateway+"/health/ready", "")
			if err == nil && resp != http.StatusOK {
				out.unready++
			}
			time.Sleep(100 * time.Millisecond)
		}
	})
	var took []time.Duration
	tick := time.NewTicker(time.Second / readerRate)
	defer tick.Stop()
	for ctx.Err() == nil {
		due := time.Now()
		if status, err := get(ctx, s.card.Gateway+reading, s.card.Keys.Published); err == nil &&
			status == http.StatusOK {
			took = append(took, time.Since(due))
		}
		<-tick.C
	}
	wg.Wait()
	if len(took) > 0 {
		slices.Sort(took)
		out.p50, out.p99 = took[len(took)/2], took[len(took)*99/100]
	}
	return out
}

var reader = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 4}}

func get(ctx context.Context, address, key string) (int, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return 0, err
	}
	if key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	resp, err := reader.Do(req)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	_, err = io.Copy(io.Discard, resp.Body)
	return resp.StatusCode, err
}

func (a *attack) run(ctx context.Context, target string) {
	c := &http.Client{
		Timeout:   5 * time.Second,
		Transport: &http.Transport{MaxIdleConnsPerHost: attackers, MaxConnsPerHost: 2000},
	}
	defer c.CloseIdleConnections()
	base, _ := url.Parse(target)
	var n atomic.Int64
	var wg sync.WaitGroup
	for range attackers {
		wg.Go(func() {
			tick := time.NewTicker(time.Second * attackers / attackRate)
			defer tick.Stop()
			for ctx.Err() == nil {
				req := a.request(int(n.Add(1))).WithContext(ctx)
				req.URL.Scheme, req.URL.Host = base.Scheme, base.Host
				if a.streams {
					wg.Go(func() {
						if resp, err := c.Do(req); err == nil {
							<-ctx.Done()
							resp.Body.Close()
						}
					})
				} else if resp, err := c.Do(req); err == nil {
					_, _ = io.Copy(io.Discard, resp.Body)
					resp.Body.Close()
				}
				select {
				case <-tick.C:
				case <-ctx.Done():
				}
			}
		})
	}
	wg.Wait()
}
