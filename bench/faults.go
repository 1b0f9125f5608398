package main

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/store/cluster"
)

// fault is something that goes wrong for a while. It ends with its context, or before.
type fault struct {
	name string
	run  func(ctx context.Context, s *subject, db *pgx.Conn) error
}

// held keeps a table locked until ctx ends.
func held(table string) func(context.Context, *subject, *pgx.Conn) error {
	return func(ctx context.Context, _ *subject, db *pgx.Conn) error {
		if _, err := db.Exec(ctx, `begin`); err != nil {
			return err
		}
		defer db.Exec(context.WithoutCancel(ctx), `rollback`)
		if _, err := db.Exec(ctx, `set local idle_in_transaction_session_timeout = 0`); err != nil {
			return err
		}
		if _, err := db.Exec(ctx, `lock table `+pgx.Identifier{table}.Sanitize()+
			` in access exclusive mode`); err != nil {
			return err
		}
		<-ctx.Done()
		return nil
	}
}

// database sends signals to all processes of the database's server, the second when ctx ends;
// 0 is none.
func database(first, second syscall.Signal) func(context.Context, *subject, *pgx.Conn) error {
	return func(ctx context.Context, s *subject, _ *pgx.Conn) error {
		data, err := cluster.DataDir(s.data)
		if err != nil {
			return err
		}
		src, err := os.ReadFile(data + "/postmaster.pid")
		if err != nil {
			return err
		}
		text, _, _ := strings.Cut(string(src), "\n")
		pid, err := strconv.Atoi(text)
		if err != nil {
			return err
		}
		children, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%[1]d/children", pid))
		if err != nil {
			return err
		}
		all := []int{pid}
		for _, text := range strings.Fields(string(children)) {
			if child, err := strconv.Atoi(text); err == nil {
				all = append(all, child)
			}
		}
		for _, one := range all {
			_ = syscall.Kill(one, first) // it may be gone
		}
		<-ctx.Done()
		for _, one := range all {
			if second != 0 {
				_ = syscall.Kill(one, second)
			}
		}
		return nil
	}
}

var faultKinds = []fault{
	{"nothing", func(ctx context.Context, _ *subject, _ *pgx.Conn) error { <-ctx.Done(); return nil }},
	{"announcements locked", held("event")},
	{"schedules locked", held("schedule")},
	{"builds locked", held("build")},
	{"audit log locked", held("audit")},
	{"entries locked", held("entry")},
	{"change log locked", held("change")},
	{"all connections taken", func(ctx context.Context, s *subject, db *pgx.Conn) error {
		var taken []*pgx.Conn
		defer func() {
			for _, c := range taken {
				c.Close(context.WithoutCancel(ctx))
			}
		}()
		for {
			c, err := pgx.ConnectConfig(ctx, db.Config())
			if err != nil {
				break // there are no more
			}
			taken = append(taken, c)
		}
		<-ctx.Done()
		return nil
	}},
	{"no room on the disk for changes", func(ctx context.Context, _ *subject, db *pgx.Conn) error {
		if _, err := db.Exec(ctx, `create or replace function bench_full() returns trigger language plpgsql as $$ begin
			raise exception 'No space left on device' using errcode = '53100'; end $$;
			create trigger bench_full before insert on change for each statement execute function
			bench_full()`); err != nil {
			return err
		}
		<-ctx.Done()
		_, err := db.Exec(context.WithoutCancel(ctx), `drop function bench_full cascade`)
		return err
	}},
	{"streams that nobody reads", func(ctx context.Context, s *subject, _ *pgx.Conn) error {
		for range 200 {
			req, err := http.NewRequestWithContext(
				ctx, http.MethodGet, s.card.Gateway+"/content/main/published/changes", nil,
			)
			if err != nil {
				return err
			}
			req.Header.Set("Authorization", "Bearer "+s.card.Keys.Published)
			req.Header.Set("Accept", "text/event-stream")
			if resp, err := http.DefaultClient.Do(req); err == nil {
				defer resp.Body.Close()
			}
		}
		<-ctx.Done()
		return nil
	}},
	{"PostgreSQL stands still", database(syscall.SIGSTOP, syscall.SIGCONT)},
	{"PostgreSQL is killed", database(syscall.SIGKILL, 0)},
}

// tried is one request.
type tried struct {
	begin time.Time
	took  time.Duration
	fine  bool
}

// traffic are requests of one kind, at a rate, until ctx ends.
func traffic(ctx context.Context, rate int, do func(i int) bool) []tried {
	var mu sync.Mutex
	var out []tried
	var all sync.WaitGroup
	tick := time.NewTicker(time.Second / time.Duration(rate))
	defer tick.Stop()
	for i := 0; ; i++ {
		select {
		case <-ctx.Done():
			all.Wait()
			return out
		case <-tick.C:
		}
		all.Go(func() {
			one := tried{begin: time.Now()}
			one.fine = do(i)
			one.took = time.Since(one.begin)
			mu.Lock()
			defer mu.Unlock()
			out = append(out, one)
		})
	}
}

// faults has one thing after another go wrong with a service in a process of its own,
// beside readers of hits, readers of what is computed, and somebody who publishes: how many
// requests failed, how long they took, and when all was well again.
func (y *harness) faults(ctx context.Context) error {
	s, err := startService(ctx)
	if err != nil {
		return err
	}
	defer s.stop()
	address, err := cluster.RunningURL(s.data)
	if err != nil {
		return err
	}
	span := time.Duration(y.seconds) * time.Second
	fmt.Printf(
		"  %d s each: failed of all, p99, well again after its end\n  %-32s %-36s %-36s %s\n", y.seconds, "",
		"200 hits a second", "20 computed", "5 publishes",
	)
	for _, f := range faultKinds {
		db, err := pgx.Connect(ctx, address)
		if err != nil {
			return err
		}
		running, stop := context.WithTimeout(ctx, span+15*time.Second)
		kinds := []struct {
			rate int
			do   func(i int) bool
			out  []tried
		}{
			{rate: 200, do: func(int) bool {
				status, err := get(running, s.card.Gateway+reading, s.card.Keys.Published)
				return err == nil && status == http.StatusOK
			}},
			{rate: 20, do: func(i int) bool {
				status, err := get(
					running,
					fmt.Sprintf(
						"%s%s&filter=title%%20%%3C%%3E%%20%%27%d-%d%%27", s.card.Gateway, reading,
						time.Now().UnixNano(), i,
					),
					s.card.Keys.Published,
				)
				return err == nil && status == http.StatusOK
			}},
			{rate: 5, do: func(i int) bool {
				_, err := (&client.Client{Address: s.card.Gateway, Key: s.card.Keys.Admin}).Entries().Edit(
					running,
					api.Edit{
						ID: fmt.Sprint("fault-", i%20), Type: "notice",
						Save: map[string]any{
							"title":    map[string]any{"en": fmt.Sprint("Notice ", time.Now().UnixNano())},
							"severity": "delay",
						}, Do: "publish",
					},
				)
				return err == nil
			}},
		}
		var all sync.WaitGroup
		for i := range kinds {
			all.Go(func() { kinds[i].out = traffic(running, kinds[i].rate, kinds[i].do) })
		}
		time.Sleep(time.Second)
		wrong, end := context.WithTimeout(ctx, span)
		begun := time.Now()
		if err := f.run(wrong, s, db); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", f.name+":", err)
		}
		end()
		ended := time.Now()
		_ = db.Close(ctx) // it may be gone
		time.Sleep(10 * time.Second)
		stop()
		all.Wait()
		fmt.Printf("  %-32s", f.name)
		for _, k := range kinds {
			fmt.Printf(" %-36s", outcomeOf(k.out, begun, ended))
		}
		fmt.Println()
	}
	return nil
}

// outcomeOf sums up the requests that were begun during a fault, and when the last one
// failed after it.
func outcomeOf(all []tried, begun, ended time.Time) string {
	var took []time.Duration
	failed := 0
	last := time.Duration(0)
	for _, one := range all {
		if one.begin.After(ended.Add(8 * time.Second)) {
			continue // the measurement itself ends
		}
		if !one.fine && one.begin.After(begun) {
			failed++
			last = max(last, one.begin.Sub(ended))
		}
		if one.begin.After(begun) && one.begin.Before(ended) {
			took = append(took, one.took)
		}
	}
	if len(took) == 0 {
		return "–"
	}
	slices.Sort(took)
	return fmt.Sprintf(
		"%d of %d, %v, %v", failed, len(took), took[len(took)*99/100].Round(100*time.Microsecond),
		last.Round(10*time.Millisecond),
	)
}
