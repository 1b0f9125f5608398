package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/store/cluster"
	"ubiquon/internal/testkit"
)

var (
	faultFor   = flag.Duration("fault.for", 20*time.Second, "how long nodes are tormented")
	faultBelow = flag.Int("fault.below", 1000, "how many pages are below the one that is renamed")
	faultSeed  = flag.Uint64("fault.seed", 8400, "what is done to the nodes")
)

// lease is how long a node may serve without having looked at the log.
const lease = 2 * time.Second

// TestNoOlderAnswerUnderFaults runs three nodes as processes on one database. They are
// read and published to while one after another is killed, stopped for a while, cut
// off from the database, kept waiting by it, or not notified; tables are locked, all
// connections taken, changes refused as with a full disk, and the disk filled where it can
// be; an origin and a builder hang, fail and lie; a page with many below is renamed;
// PostgreSQL is restarted, and crashes; and once an older copy of it is restored. Then the
// recorded history is gone through: no answer may be older than a publish that had returned
// before the request began, if that waited for all nodes, or went to the same node, or is as
// long ago as the lease; no commit may be seen in halves; nothing may be lost but what the
// older copy did not have, and that may not be served any more once the lease is over. No node
// may go back behind what it has answered. A site that renders what it is told is stale shows in the
// end what is published.
func TestNoOlderAnswerUnderFaults(t *testing.T) {
	f := newFaults(t)
	ctx, stop := context.WithTimeout(t.Context(), *faultFor)
	defer stop()
	var all sync.WaitGroup
	all.Go(func() { f.publish(ctx) })
	for i := range 6 {
		all.Go(func() { f.read(ctx, rand.New(rand.NewPCG(*faultSeed, uint64(i+1)))) })
	}
	all.Go(func() { f.followChanges(ctx) })
	all.Go(func() { f.compare(ctx) })
	all.Go(func() { f.site.visit(ctx) })
	all.Go(func() { f.session(ctx, rand.New(rand.NewPCG(*faultSeed, 77))) })
	all.Go(func() {
		for i := 0; ctx.Err() == nil; i++ {
			if err := f.rename(ctx, i%len(f.nodes), fmt.Sprint("slug-", i)); err == nil {
				f.renamed.Add(1)
			}
			select {
			case <-ctx.Done():
			case <-time.After(max(2*time.Second, *faultFor/80)): // each fills the log
			}
		}
	})
	f.torment(ctx)
	all.Wait()
	f.check()
	f.checkSession()
	f.outsideIsTrue()
	f.site.isTrue()
}

const pairs = 4

type faults struct {
	t     *testing.T
	path  string
	nodes []*faultNode
	key   string
	dir   string // of the database
	// smallDisk says that it is a disk of its own, which may be full.
	smallDisk         bool
	outside           *faultOutside
	site              *faultPages
	sessionReads      []readOut
	compared, renamed atomic.Int64
	database          *cluster.Cluster
	// copied is when the older copy was made; the database was put back to it between
	// restoring and restored.
	copied, restoring, restored time.Time

	mu        sync.Mutex
	publishes []published
	reads     []readOut
	refused   int
	// unanswered are the numbers of publishes that got no answer: they may come to be after later ones.
	unanswered map[int]bool
	done       map[string]int // what was done to nodes
	// followed are the changes that followChanges was told of, begunAgain how often it was
	// told to begin again.
	followed, begunAgain int
	// copyIsOlder says that changes come that the copy does not have, followedBeyond counts those that were
	// followed; noticedBy is when nodes have noticed that it was restored (Unix, in ns), followedSince that changes
	// were followed after that.
	copyIsOlder    atomic.Bool
	followedBeyond int
	noticedBy      atomic.Int64
	followedSince  bool
}

// published is a publish that returned: both entries of a pair came to have a number,
// which is higher than all before.
type published struct {
	pair, node int
	n          int
	start, end time.Time
	confirmed  bool
}

type readOut struct {
	pair, node     int
	first, second  int
	start, end     time.Time
	sequence, from string
}

// lost tells whether the publish may, and whether it must be one that the older copy
// did not have.
func (f *faults) lost(p published) (perhaps, surely bool) {
	if f.restoring.IsZero() {
		return false, false
	}
	return p.end.After(f.copied) && p.start.Before(f.restored), p.start.After(f.copied) && p.end.Before(f.restoring)
}

type faultNode struct {
	f       *faults
	name    string
	config  string
	address string
	between *wire
	cmd     *exec.Cmd
	ended   chan struct{} // closed when the process has
	says    tail
}

// tail is the end of what a process says.
type tail struct {
	mu   sync.Mutex
	text []byte
}

func (l *tail) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.text = append(l.text, p...)
	l.text = l.text[max(0, len(l.text)-4000):]
	return len(p), nil
}

func (l *tail) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return string(l.text)
}

// kill ends the process at once, and waits for that.
func (n *faultNode) kill() {
	_ = n.cmd.Process.Signal(syscall.SIGCONT)
	_ = n.cmd.Process.Kill()
	<-n.ended
}

// wire stands between a node and the database.
type wire struct {
	listener net.Listener
	to       atomic.Pointer[string]
	refuses  atomic.Bool
	stalls   sync.RWMutex // held while nothing comes through
	late     sync.RWMutex // held while no notification does
	mu       sync.Mutex
	open     map[net.Conn]bool
}

func standBetween(t *testing.T, to string) *wire {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	b := &wire{listener: l, open: map[net.Conn]bool{}}
	b.to.Store(&to)
	t.Cleanup(func() { l.Close(); b.cut() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go b.join(c)
		}
	}()
	return b
}

func (b *wire) join(c net.Conn) {
	defer c.Close()
	if b.refuses.Load() {
		return
	}
	d, err := net.Dial("tcp", *b.to.Load())
	if err != nil {
		return
	}
	defer d.Close()
	b.mu.Lock()
	b.open[c], b.open[d] = true, true
	b.mu.Unlock()
	var listening atomic.Bool
	pass := func(to, from net.Conn, ended chan<- bool) {
		buffer := make([]byte, 32<<10)
		for {
			n, err := from.Read(buffer)
			b.stalls.RLock()
			b.stalls.RUnlock() // only waited for
			if bytes.Contains(buffer[:n], []byte("listen ubiquon_change")) {
				listening.Store(true)
			} else if listening.Load() {
				b.late.RLock()
				b.late.RUnlock()
			}
			if _, err := to.Write(buffer[:n]); err != nil {
				break
			}
			if err != nil {
				break
			}
		}
		ended <- true
	}
	ended := make(chan bool, 2)
	go pass(c, d, ended)
	go pass(d, c, ended)
	<-ended
	b.mu.Lock()
	delete(b.open, c)
	delete(b.open, d)
	b.mu.Unlock()
}

func (b *wire) cut() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for c := range b.open {
		c.Close()
	}
}

func newFaults(t *testing.T) *faults {
	dir := dataDir(t)
	f := &faults{
		t:          t,
		path:       binary(t),
		done:       map[string]int{},
		unanswered: map[int]bool{},
		dir:        filepath.Join(dir, "disk", "database"),
	}
	f.smallDisk = onSmallDisk(t, filepath.Dir(f.dir))
	direct := f.startDatabase(t.Context())
	t.Cleanup(func() { f.database.Stop() })
	if err := os.MkdirAll(filepath.Join(dir, "model"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "model", "m.yaml"), []byte(faultModel), 0o644); err != nil {
		t.Fatal(err)
	}
	f.site = newFaultPages(f)
	f.outside = &faultOutside{site: f.site}
	web := httptest.NewServer(f.outside)
	t.Cleanup(web.Close)
	t.Cleanup(func() { f.outside.mode.Store(nil) }) // what hangs ends
	for name, text := range map[string]string{"origins": faultOrigin, "sites": faultSite, "rules": faultRule} {
		if err := os.WriteFile(filepath.Join(dir, name+".yaml"),
			[]byte(strings.ReplaceAll(text, "OUTSIDE", web.URL)), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	t.Cleanup(func() {
		for _, n := range f.nodes {
			if n.cmd == nil {
				continue
			}
			if n.kill(); t.Failed() {
				t.Logf("%s said last:\n%s", n.name, &n.says)
			}
		}
	})
	for i := range 3 {
		b := standBetween(t, direct.Host)
		own := *direct
		own.RawQuery = "connect_timeout=5"
		own.Host = b.listener.Addr().String()
		free, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		n := &faultNode{
			f:       f,
			name:    fmt.Sprintf("node %d", i),
			config:  filepath.Join(dir, fmt.Sprintf("node%d.yaml", i)),
			address: "http://" + free.Addr().String(),
			between: b,
		}
		free.Close()
		text := fmt.Sprintf(
			"listen: %s\ndatabase: %q\ndata: %s\nmodel: model\norigins: origins.yaml\nsites: sites.yaml\nrules: "+
				"rules.yaml\noutbound: {private: true}\n",
			free.Addr(), own.String(), filepath.Join(dir, "data"+fmt.Sprint(i)),
		)
		if err := os.WriteFile(n.config, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		f.nodes = append(f.nodes, n)
		if key := n.start(); f.key == "" {
			f.key = key
		}
	}
	for pair := range pairs {
		if _, err := f.put(t.Context(), 0, pair, 1, true); err != nil {
			t.Fatal(err)
		}
	}
	var lines strings.Builder
	lines.WriteString(
		`{"id": "top", "type": "page", "fields": {"slug": "winter"}, "published": "2026-01-01T08:00:00Z"}` + "\n",
	)
	for i := range *faultBelow {
		fmt.Fprintf(
			&lines,
			`{"id": "page%d", "type": "page", "fields": {"slug": "page-%[1]d", "parent": "top"}, "published": "2026-01-01T08:00:00Z"}`+"\n",
			i,
		)
	}
	if err := f.client(0).Entries().Import(t.Context(), strings.NewReader(lines.String()), api.ImportOptions{},
		func(api.ImportProgress) {}); err != nil {
		t.Fatal(err)
	}
	f.site.begin()
	return f
}

func (f *faults) client(node int) *client.Client {
	return &client.Client{Address: f.nodes[node].address, Key: f.key}
}

const (
	faultModel = `
types:
  pier: {fields: {name: {kind: text}}}
  quay: {fields: {name: {kind: text}}}
  page:
    path: "/{parent.path}/{slug}"
    fields: {slug: {kind: slug}, parent: {kind: reference, types: [page]}}
`
	faultOrigin = `
origins:
  harbour:
    pull: {http: "OUTSIDE/api"}
    prove: {standardWebhooks: ["whsec_c2tlcnJ5LWxpbmUtc2VjcmV0LW9uZQ=="]}
    types:
      quay: {kind: berths, from: "$.berths[*]", id: $.ref, version: $.v, state: {path: $.status, values: {open: published}}, fields: {name: $.called}}
`
	faultSite = `sites:
  board: {address: OUTSIDE, build: {call: "OUTSIDE/build", quiet: 1s, atMost: 5s, timeout: 10s, reports: none}}
  shown: {address: OUTSIDE, refresh: {call: "OUTSIDE/refresh"}}
`
	faultRule = `
rules:
  - name: Build the board
    on: [published]
    types: [pier, page]
    do: [{rebuild: {site: board}}]
`
)

// faultOutside is an origin and a builder, which do as they should, hang, fail or lie.
type faultOutside struct {
	site           *faultPages
	mode           atomic.Pointer[string]
	version, built atomic.Int64
}

const berths = 60

func (o *faultOutside) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	mode := o.mode.Load()
	switch {
	case mode != nil && *mode == "hangs":
		for o.mode.Load() == mode && r.Context().Err() == nil {
			select {
			case <-r.Context().Done():
			case <-time.After(20 * time.Millisecond):
			}
		}
		panic(http.ErrAbortHandler)
	case mode != nil && *mode == "fails":
		http.Error(w, "out of order", http.StatusInternalServerError)
	case r.URL.Path == "/build":
		o.built.Add(1)
		w.WriteHeader(http.StatusAccepted)
	case r.URL.Path == "/refresh":
		o.site.refresh(w, r)
	case mode != nil && *mode == "lies":
		fmt.Fprintf(w, `{"berths": [{"ref": "b1", "called": `) // and no more
	case mode != nil && *mode == "forgets":
		fmt.Fprint(w, `{"berths": []}`)
	default:
		var all []any
		for i := range berths {
			all = append(
				all,
				map[string]any{
					"ref":    fmt.Sprint("b", i),
					"called": fmt.Sprint("Berth ", o.version.Load()),
					"status": "open",
					"v":      fmt.Sprintf("%09d", o.version.Load()),
				},
			)
		}
		_ = json.NewEncoder(w).Encode(map[string]any{"berths": all}) // the node may be killed
	}
}

// compare has a node compare the origin with what is held, again and again.
func (f *faults) compare(ctx context.Context) {
	for i := 0; ctx.Err() == nil; i++ {
		f.outside.version.Add(1)
		bounded, cancel := context.WithTimeout(ctx, 15*time.Second)
		if _, err := f.client(i%len(f.nodes)).Origins().Reconcile(bounded, "harbour", false, nil); err == nil {
			f.compared.Add(1)
		}
		cancel()
		select {
		case <-ctx.Done():
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// rename gives the page that all others are below another slug, on any node.
func (f *faults) rename(ctx context.Context, node int, slug string) error {
	ctx, cancel := context.WithTimeout(ctx, 40*time.Second)
	defer cancel()
	_, err := f.client(node).
		Entries().Edit(ctx, api.Edit{ID: "top", Type: "page", Save: map[string]any{"slug": slug}, Do: "publish"})
	return err
}

// outsideIsTrue waits until every node has what the origin has, the pages are where the
// top page is, and the builder is called again.
func (f *faults) outsideIsTrue() {
	f.outside.mode.Store(nil)
	f.outside.version.Add(1)
	testkit.Eventually(f.t, "the origin can be compared with", func() bool {
		ctx, cancel := context.WithTimeout(f.t.Context(), 10*time.Second)
		defer cancel()
		done, err := f.client(0).Origins().Reconcile(ctx, "harbour", false, nil)
		return err == nil && done.Seen == berths
	})
	testkit.Eventually(
		f.t, "the page can be renamed", func() bool { return f.rename(f.t.Context(), 1, "spring") == nil },
	)
	before, last := f.outside.built.Load(), ""
	defer func() {
		if f.t.Failed() {
			f.t.Log(last)
		}
	}()
	for i, n := range f.nodes {
		c := f.client(i)
		holds := func(path, text string) bool {
			a, err := c.Do(f.t.Context(), http.MethodGet, "/content/main/published/"+path, nil, nil)
			if err == nil {
				last = fmt.Sprintf("%s: %d %s", path, a.Status, a.Body)
			}
			return err == nil && strings.Contains(string(a.Body), text)
		}
		testkit.Eventually(f.t, n.name+" has what the origin has", func() bool {
			return holds(
				"quays?fields=name&limit=1&filter=name='"+url.QueryEscape(
					fmt.Sprint("Berth ", f.outside.version.Load()),
				)+"'&count=true",
				fmt.Sprintf(`"total":%d`, berths),
			)
		})
		testkit.Eventually(f.t, n.name+" has moved the pages", func() bool {
			return holds(fmt.Sprintf("pages/page-%d?fields=about(path)", *faultBelow-1), "/spring/")
		})
	}
	if _, err := f.put(f.t.Context(), 0, 0, 1<<30, false); err != nil {
		f.t.Error(err)
	}
	testkit.Eventually(f.t, "the builder is called again", func() bool { return f.outside.built.Load() > before })
}

// onSmallDisk makes the database's directory a disk of its own, if that may be.
func onSmallDisk(t *testing.T, dir string) bool {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o",
		fmt.Sprintf("size=%dm,mode=755", 600+100*int(faultFor.Minutes())), "tmpfs", dir).CombinedOutput(); err != nil {
		t.Logf("no disk of its own for the database, so none that is full: %v: %s", err, out)
		return false
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", dir).Run() })
	return true
}

// fullDisk fills the database's disk to the last byte. PostgreSQL may end over it, and is
// started again when there is space.
func (f *faults) fullDisk(meanwhile func()) {
	fill := filepath.Join(filepath.Dir(f.database.Dir), "fill")
	file, err := os.Create(fill)
	if err != nil {
		f.t.Error(err)
		return
	}
	block := make([]byte, 1<<20)
	for size := len(block); size > 0; {
		if _, err := file.Write(block[:size]); err != nil {
			size /= 2
		}
	}
	meanwhile()
	file.Close()
	if err := os.Remove(fill); err != nil {
		f.t.Error(err)
	}
	ctx, cancel := context.WithTimeout(f.t.Context(), 2*time.Second)
	defer cancel()
	if c, err := pgx.Connect(ctx, f.database.URL); err == nil {
		c.Close(ctx)
		return
	}
	f.database.Stop()
	f.startDatabase(f.t.Context())
}

// startDatabase starts PostgreSQL, and leads the nodes there.
func (f *faults) startDatabase(ctx context.Context) *url.URL {
	var err error
	if f.database, err = cluster.Start(ctx, cluster.Options{Dir: f.dir}); err != nil {
		log, _ := os.ReadFile(filepath.Join(f.dir, "postgres.log"))
		f.t.Fatalf("%v: %s", err, log[max(0, len(log)-2000):])
	}
	if c, err := pgx.Connect(ctx, f.database.URL); err == nil { // it is to stay small
		_, _ = c.Exec(ctx, `alter system set max_wal_size = '128MB'`)
		_, _ = c.Exec(ctx, `select pg_reload_conf()`)
		c.Close(ctx)
	}
	direct, err := url.Parse(f.database.URL)
	if err != nil {
		f.t.Fatal(err)
	}
	for _, n := range f.nodes {
		n.between.to.Store(&direct.Host)
	}
	return direct
}

// locked keeps a table of the database locked.
func (f *faults) locked(table string, meanwhile func()) {
	c, err := pgx.Connect(f.t.Context(), f.database.URL)
	if err != nil {
		f.t.Error(err)
		return
	}
	defer c.Close(f.t.Context())
	if _, err := c.Exec(f.t.Context(), `begin; set local lock_timeout = '10s'; lock table `+table+
		` in access exclusive mode`); err != nil {
		f.t.Logf("%s could not be locked: %v", table, err)
		return
	}
	meanwhile()
	// Closing the connection ends the lock.
}

// stallStreams opens streams of a node, and reads nothing of them.
func (f *faults) stallStreams(n *faultNode, meanwhile func()) {
	for range 20 {
		c, err := net.Dial("tcp", strings.TrimPrefix(n.address, "http://"))
		if err != nil {
			continue // it may be away
		}
		defer c.Close()
		fmt.Fprintf(
			c,
			"GET /content/main/published/changes?after=0 HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer "+
				"%s\r\nAccept: text/event-stream\r\n\r\n",
			f.key,
		)
	}
	meanwhile()
}

// followChanges follows the changes on any node, as an index does that is kept elsewhere:
// it must never be told of one twice, unless it was told to begin again.
func (f *faults) followChanges(ctx context.Context) {
	web := &http.Client{Timeout: 5 * time.Second}
	next := int64(0)
	for i := 0; ctx.Err() == nil; i++ {
		answer, err := (&client.Client{Address: f.nodes[i%len(f.nodes)].address, Key: f.key, HTTP: web}).Do(
			ctx, http.MethodGet, fmt.Sprintf("/content/main/published/changes?after=%d", next), nil, nil,
		)
		if err == nil {
			var told struct {
				Items []struct{ Sequence int64 }
				Next  int64
				Hint  string
			}
			if err := json.Unmarshal(answer.Body, &told); err != nil {
				f.t.Errorf("%d %s: %v", answer.Status, answer.Body, err)
				return
			}
			switch answer.Status {
			case http.StatusOK:
				since := f.noticedBy.Load()
				f.followedSince = f.followedSince || since > 0 && time.Now().UnixNano() > since
				for _, one := range told.Items {
					if one.Sequence <= next {
						f.t.Errorf("change %d is told of after %d", one.Sequence, next)
					}
					next = one.Sequence
				}
				next = max(next, told.Next)
				f.followed += len(told.Items)
				if f.copyIsOlder.Load() {
					f.followedBeyond += len(told.Items)
				}
			case http.StatusGone:
				_, text, _ := strings.Cut(told.Hint, "after=")
				if next, err = strconv.ParseInt(text, 10, 64); err != nil {
					f.t.Errorf("where to begin again is not said: %s", answer.Body)
					return
				}
				f.begunAgain++
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// withoutConnections takes all connections that the database still gives.
func (f *faults) withoutConnections(meanwhile func()) {
	var taken []*pgx.Conn
	for {
		c, err := pgx.Connect(f.t.Context(), f.database.URL)
		if err != nil {
			break
		}
		taken = append(taken, c)
	}
	meanwhile()
	for _, c := range taken {
		c.Close(f.t.Context())
	}
}

// withoutRoom has the database refuse changes as it does when its disk is full.
func (f *faults) withoutRoom(meanwhile func()) {
	run := func(sql string) {
		c, err := pgx.Connect(f.t.Context(), f.database.URL)
		if err == nil {
			_, err = c.Exec(f.t.Context(), sql)
			c.Close(f.t.Context())
		}
		if err != nil {
			f.t.Errorf("%s: %v", sql, err)
		}
	}
	run(
		`create function no_room() returns trigger language plpgsql as $$ begin raise exception
			'No space left on device' using errcode = '53100'; end $$;
		create trigger no_room before insert on change for each statement execute function no_room()`,
	)
	meanwhile()
	run(`drop function no_room cascade`)
}

// crash lets PostgreSQL end without putting anything in order.
func (f *faults) crash() {
	src, err := os.ReadFile(filepath.Join(f.database.Dir, "postmaster.pid"))
	if err != nil {
		f.t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.SplitN(string(src), "\n", 2)[0])
	if err != nil {
		f.t.Fatal(err)
	}
	_ = syscall.Kill(pid, syscall.SIGQUIT)
	f.database.Stop() // it only waits for the end
}

// copyDatabase copies all that the stopped database has.
func (f *faults) copyDatabase(from, to string) {
	if err := os.RemoveAll(to); err != nil {
		f.t.Fatal(err)
	}
	if out, err := exec.Command("cp", "-a", from, to).CombinedOutput(); err != nil {
		f.t.Fatalf("%v: %s", err, out)
	}
}

// start starts the node's process, and returns the key that its first start prints.
func (n *faultNode) start() (key string) {
	keys := n.run()
	testkit.Eventually(n.f.t, n.name+" answers", func() bool {
		select {
		case <-n.ended:
			keys = n.run() // somebody had its port for a time
		default:
		}
		r, err := http.Get(n.address + "/health/ready")
		if err != nil {
			return false
		}
		r.Body.Close()
		return r.StatusCode == 200
	})
	if n.f.key == "" {
		key = <-keys
	}
	return key
}

// run runs the process, and hands on the keys that it prints.
func (n *faultNode) run() <-chan string {
	n.cmd = exec.Command(n.f.path, "serve", "--config", n.config, "--log-level", "error")
	out, err := n.cmd.StdoutPipe()
	if err != nil {
		n.f.t.Fatal(err)
	}
	n.cmd.Stderr = &n.says
	if err := n.cmd.Start(); err != nil {
		n.f.t.Fatal(err)
	}
	keys, cmd, ended := make(chan string, 1), n.cmd, make(chan struct{})
	n.ended = ended
	go func() {
		for lines := bufio.NewScanner(out); lines.Scan(); {
			for _, word := range strings.Fields(lines.Text()) {
				if strings.HasPrefix(word, "ubq_") {
					keys <- word
				}
			}
		}
		_ = cmd.Wait() // it is killed, for the most part
		close(ended)
	}()
	return keys
}

// put publishes both entries of a pair in one commit.
func (f *faults) put(ctx context.Context, node, pair, n int, wait bool) (confirmed bool, err error) {
	var edits []any
	for _, side := range []string{"a", "b"} {
		id := fmt.Sprintf("p%d%s", pair, side)
		edits = append(
			edits,
			map[string]any{
				"id":   id,
				"type": "pier",
				"save": map[string]any{"name": strconv.Itoa(n)},
				"do":   "publish",
			},
		)
	}
	h := http.Header{}
	if wait {
		h.Set("Prefer", "wait=5")
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	a, err := (&client.Client{Address: f.nodes[node].address, Key: f.key}).Do(
		ctx, http.MethodPost, "/control/v1/edits", h, map[string]any{"edits": edits},
	)
	if err == nil {
		err = a.Err()
	}
	if err != nil {
		return false, err
	}
	var out struct{ Confirmed bool }
	err = json.Unmarshal(a.Body, &out)
	return out.Confirmed, err
}

func (f *faults) publish(ctx context.Context) {
	r := rand.New(rand.NewPCG(*faultSeed, 99))
	for n := 2; ctx.Err() == nil; n++ {
		node, pair := r.IntN(len(f.nodes)), r.IntN(pairs)
		start := time.Now()
		confirmed, err := f.put(ctx, node, pair, n, r.IntN(2) == 0)
		f.mu.Lock()
		if err != nil {
			f.refused++
			f.unanswered[n] = true
		} else {
			f.publishes = append(f.publishes, published{pair, node, n, start, time.Now(), confirmed})
		}
		f.mu.Unlock()
	}
}

func (f *faults) read(ctx context.Context, r *rand.Rand) {
	web := &http.Client{Timeout: 8 * time.Second}
	for ctx.Err() == nil {
		node, pair := r.IntN(len(f.nodes)), r.IntN(pairs)
		one, ok := f.look(ctx, web, node, pair, "")
		if f.mu.Lock(); ok {
			f.reads = append(f.reads, one)
		} else {
			f.refused++
		}
		f.mu.Unlock()
	}
}

// session reads on any node, and asks each for what it has seen elsewhere.
func (f *faults) session(ctx context.Context, r *rand.Rand) {
	web := &http.Client{Timeout: 8 * time.Second}
	last, well := int64(0), time.Now()
	for ctx.Err() == nil {
		one, ok := f.lookWith(
			ctx, web, r.IntN(len(f.nodes)), r.IntN(pairs),
			http.Header{"Ubiquon-Min-Sequence": {strconv.FormatInt(last, 10)}},
		)
		if !ok {
			if time.Since(well) > 10*time.Second {
				last, well = 0, time.Now() // the log may be an older copy's, which does not reach so far
				f.sessionReads = append(f.sessionReads, readOut{pair: -1})
			}
			continue
		}
		well = time.Now()
		if n, err := strconv.ParseInt(one.sequence, 10, 64); err == nil {
			last = max(last, n)
		}
		f.sessionReads = append(f.sessionReads, one)
	}
}

// checkSession goes through what one session has read: nothing is older than what it has
// read before, on whatever node, but across the time when an older copy was restored.
func (f *faults) checkSession() {
	newest, back := map[int]int{}, 0
	var before time.Time
	for _, r := range f.sessionReads {
		if r.pair < 0 {
			clear(newest)
			continue
		}
		if !f.restoring.IsZero() && before.Before(f.restored.Add(lease)) && r.end.After(f.restoring) {
			clear(newest)
		}
		if before = r.start; r.first < newest[r.pair] && !f.unanswered[r.first] {
			if back++; back < 5 {
				f.t.Errorf(
					"a session reads %d of pair %d from %s (%s) after %d", r.first, r.pair, f.nodes[r.node].name,
					r.from, newest[r.pair],
				)
			}
		}
		if newest[r.pair] = max(newest[r.pair], r.first); f.unanswered[r.first] {
			newest[r.pair] = r.first
		}
	}
	f.t.Logf("a session read %d times on all nodes, %d times something older", len(f.sessionReads), back)
}

// look reads a pair in one request.
func (f *faults) look(ctx context.Context, web *http.Client, node, pair int, directive string) (readOut, bool) {
	header := http.Header{}
	if directive != "" {
		header = http.Header{"Cache-Control": {directive}, "Prefer": {"recompute"}}
	}
	return f.lookWith(ctx, web, node, pair, header)
}

func (f *faults) lookWith(ctx context.Context, web *http.Client, node, pair int, header http.Header) (readOut, bool) {
	query := fmt.Sprintf(
		`{a: node(id: "p%da") { ...on Pier { name } } b: node(id: "p%db") { ...on Pier { name } }}`, pair, pair,
	)
	req, err := http.NewRequestWithContext(
		ctx, http.MethodGet, f.nodes[node].address+"/content/main/published/graphql?query="+url.QueryEscape(query),
		nil,
	)
	if err != nil {
		f.t.Error(err)
		return readOut{}, false
	}
	req.Header = header
	req.Header.Set("Authorization", "Bearer "+f.key)
	one := readOut{pair: pair, node: node, start: time.Now()}
	resp, err := web.Do(req)
	if err != nil {
		return one, false
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil || resp.StatusCode != 200 {
		return one, false
	}
	type side struct {
		Name int `json:",string"`
	}
	var out struct{ Data struct{ A, B side } }
	if err := json.Unmarshal(body, &out); err != nil || out.Data.A.Name == 0 {
		f.t.Errorf("%s: %v", body, err)
		return one, false
	}
	one.first, one.second, one.end = out.Data.A.Name, out.Data.B.Name, time.Now()
	one.sequence, one.from = resp.Header.Get("Ubiquon-Sequence"), resp.Header.Get("Cache-Status")
	return one, true
}

// torment does one thing after another to the nodes.
func (f *faults) torment(ctx context.Context) {
	r := rand.New(rand.NewPCG(*faultSeed, 7))
	pause := func(most time.Duration) {
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(r.Int64N(int64(most)))):
		}
	}
	copied := filepath.Join(filepath.Dir(filepath.Dir(f.dir)), "copy") // on another disk
	began := time.Now()
	for ctx.Err() == nil {
		pause(time.Second)
		n := f.nodes[r.IntN(len(f.nodes))]
		what := []string{
			"killed", "stopped", "cut off", "kept waiting", "not notified", "PostgreSQL restarted",
			"PostgreSQL crashed", "locked", "no connections", "no room", "streams stall",
			"the origin and the builder hang", "they fail", "the origin lies", "it forgets", "disk full",
		}[r.IntN(16)]
		switch {
		case f.copied.IsZero() && time.Since(began) > *faultFor/4:
			what = "copied"
		case f.restored.IsZero() && time.Since(began) > *faultFor/2:
			what = "restored"
		}
		f.done[what]++
		switch what {
		case "PostgreSQL restarted":
			f.database.Stop()
			f.startDatabase(f.t.Context())
		case "PostgreSQL crashed":
			f.site.amidACall(ctx, f.crash)
			f.startDatabase(f.t.Context())
		case "copied":
			f.site.amidACall(ctx, f.database.Stop)
			f.copyDatabase(f.database.Dir, copied)
			f.copied = time.Now()
			f.copyIsOlder.Store(true)
			f.startDatabase(f.t.Context())
		case "restored":
			f.site.amidACall(ctx, func() {
				f.restoring = time.Now()
				f.copyIsOlder.Store(false)
				f.crash()
			})
			f.copyDatabase(copied, f.database.Dir)
			f.restored = time.Now()
			f.startDatabase(f.t.Context())
			f.noticedBy.Store(time.Now().Add(2 * lease).UnixNano())
		case "locked":
			table := []string{
				"event", "schedule", "build", "audit", "entry", "document", "change", "node",
				"written", "position", "page_ledger",
			}[r.IntN(11)]
			f.done["locked "+table]++
			f.locked(table, func() { pause(4 * time.Second) })
		case "streams stall":
			f.stallStreams(n, func() { pause(4 * time.Second) })
		case "no connections":
			f.withoutConnections(func() { pause(4 * time.Second) })
		case "the origin and the builder hang", "they fail", "the origin lies", "it forgets":
			mode := map[string]string{
				"the origin and the builder hang": "hangs", "they fail": "fails",
				"the origin lies": "lies", "it forgets": "forgets",
			}[what]
			f.outside.mode.Store(&mode)
			pause(4 * time.Second)
			f.outside.mode.Store(nil)
		case "disk full":
			if f.smallDisk {
				f.fullDisk(func() { pause(4 * time.Second) })
			}
		case "no room":
			f.withoutRoom(func() { pause(4 * time.Second) })
		case "not notified":
			n.between.late.Lock()
			pause(4 * time.Second)
			n.between.late.Unlock()
		case "killed":
			n.kill()
			n.start()
		case "stopped":
			_ = n.cmd.Process.Signal(syscall.SIGSTOP)
			pause(4 * time.Second)
			_ = n.cmd.Process.Signal(syscall.SIGCONT)
		case "cut off":
			n.between.refuses.Store(true)
			n.between.cut()
			pause(4 * time.Second)
			n.between.refuses.Store(false)
		case "kept waiting":
			n.between.stalls.Lock()
			pause(4 * time.Second)
			n.between.stalls.Unlock()
		}
	}
}

// check goes through what was recorded.
func (f *faults) check() {
	t := f.t
	confirmed, old, halves, gone := 0, 0, 0, 0
	byPair := map[int][]published{} // in the order of their numbers, which is that of their ends
	for _, p := range f.publishes {
		byPair[p.pair] = append(byPair[p.pair], p)
		if p.confirmed {
			confirmed++
		}
	}
	for _, r := range f.reads {
		if r.first != r.second {
			halves++
			t.Errorf(
				"a commit is seen in halves: %d and %d, from %s (%s)", r.first, r.second, f.nodes[r.node].name,
				r.from,
			)
		}
		all := byPair[r.pair]
		later := sort.Search(len(all), func(i int) bool { return all[i].n > r.first })
		if later > 0 && all[later-1].n == r.first {
			if _, surely := f.lost(all[later-1]); surely && r.start.After(f.restoring.Add(lease)) {
				if gone++; gone < 5 {
					t.Errorf(
						"%d of pair %d from %s (%s, sequence %s), asked for %v after a copy without it was restored",
						r.first, r.pair, f.nodes[r.node].name, r.from, r.sequence, r.start.Sub(f.restoring),
					)
				}
			}
		}
		for _, p := range all[later:] {
			if !p.end.Before(r.start) || f.unanswered[r.first] {
				break
			}
			if perhaps, _ := f.lost(p); perhaps && r.end.After(f.restoring) {
				continue
			}
			if p.confirmed || p.node == r.node || p.end.Add(lease).Before(r.start) {
				if old++; old < 5 {
					t.Errorf(
						"%d of pair %d from %s (%s, sequence %s), asked for %v after %d was published on %s "+
							"(confirmed %t)",
						r.first, r.pair, f.nodes[r.node].name, r.from, r.sequence, r.start.Sub(p.end), p.n,
						f.nodes[p.node].name, p.confirmed,
					)
				}
				break
			}
		}
	}
	// No node goes back: what was read there after something else is no older.
	back := 0
	byNode := map[[2]int][]readOut{}
	for _, r := range f.reads {
		byNode[[2]int{r.node, r.pair}] = append(byNode[[2]int{r.node, r.pair}], r)
	}
	for _, reads := range byNode {
		ends := slices.Clone(reads)
		slices.SortFunc(reads, func(a, b readOut) int { return a.start.Compare(b.start) })
		slices.SortFunc(ends, func(a, b readOut) int { return a.end.Compare(b.end) })
		newest, i := 0, 0
		for _, r := range reads {
			for ; i < len(ends) && ends[i].end.Before(r.start); i++ {
				// A node may find that it knows everything until the database is stopped, which comes
				// some time after restoring begins, and may answer by that for a lease.
				if !f.restoring.IsZero() && ends[i].start.Before(f.restored.Add(lease)) && r.end.After(f.restoring) {
					continue // of before an older copy was restored
				}
				newest = max(newest, ends[i].first)
			}
			if !f.restoring.IsZero() && r.end.After(f.restoring) && r.start.Before(f.restored.Add(lease)) {
				newest = 0
				continue
			}
			if r.first < newest && !f.unanswered[r.first] {
				if back++; back < 5 {
					t.Errorf(
						"%d of pair %d from %s after %d had been read there", r.first, r.pair, f.nodes[r.node].name,
						newest,
					)
				}
			}
		}
	}
	web := &http.Client{Timeout: 10 * time.Second}
	seen := ""
	defer func() {
		if t.Failed() {
			t.Log(seen)
		}
	}()
	for pair := range pairs {
		newest := 0
		for _, p := range f.publishes {
			if perhaps, _ := f.lost(p); p.pair == pair && !perhaps {
				newest = max(newest, p.n)
			}
		}
		for node := range f.nodes {
			testkit.Eventually(t, f.nodes[node].name+" is as the database is", func() bool {
				held, ok := f.look(t.Context(), web, node, pair, "")
				fresh, also := f.look(t.Context(), web, node, pair, "no-store")
				if ok && also && fresh.first < newest {
					t.Fatalf("%d of pair %d is lost: there is %d", newest, pair, fresh.first)
				}
				seen = fmt.Sprintf(
					"%s: held %t %+v, fresh %t %+v; it said last:\n%s", f.nodes[node].name, ok, held, also, fresh,
					&f.nodes[node].says,
				)
				return ok && also && held.first == fresh.first
			})
		}
	}
	t.Logf(
		"%d reads and %d publishes, of which %d waited until all nodes were confirmed, while nodes were %v: %d "+
			"too old, %d in halves, %d that were gone, %d behind one before; %d requests got no answer",
		len(f.reads), len(f.publishes), confirmed, f.done, old, halves, gone, back, f.refused,
	)
	t.Logf("%d comparisons with the origin, %d renames of %d pages", f.compared.Load(), f.renamed.Load(), *faultBelow)
	t.Logf("%d changes were followed, begun again %d times", f.followed, f.begunAgain)
	if !f.restored.IsZero() && f.begunAgain == 0 && f.followedBeyond > 0 && f.followedSince {
		t.Error("who followed the changes was not told to begin again, though an older copy was restored")
	}
	if len(f.reads) < 100 || len(f.publishes) < 5 {
		t.Error("there is too little to look at")
	}
}
