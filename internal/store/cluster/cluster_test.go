package cluster

import (
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

func scratch(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/tmp", "ubiquon-cluster-")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func start(t *testing.T, dir string) *Cluster {
	t.Helper()
	c, err := Start(t.Context(), Options{Dir: dir}) // in earnest: what is committed survives a kill
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Stop)
	return c
}

func run(t *testing.T, url, sql string) {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	if _, err := conn.Exec(t.Context(), sql); err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
}

func TestStartsStopsAndTakesUp(t *testing.T) {
	dir := scratch(t)
	first := start(t, dir)
	run(t, first.URL, "create table kept (n int)")
	if url, err := RunningURL(dir); err != nil || url != first.URL {
		t.Errorf("seen from outside: %s, %v", url, err)
	}
	first.Stop()
	second := start(t, dir)
	run(t, second.URL, "select n from kept")
	// A second server on the data of a running one, as after a kill that left the
	// first behind: the one left behind is stopped.
	third := start(t, dir)
	run(t, third.URL, "select n from kept")
	if _, err := pgx.Connect(t.Context(), second.URL); err == nil {
		t.Error("the server left behind still answers")
	}
}

func TestStalePIDFileIsIgnored(t *testing.T) {
	dir := scratch(t)
	first := start(t, dir)
	run(t, first.URL, "create table kept (n int)")
	first.stopping = true // as if the process that started it had been killed before
	if err := first.cmd.Process.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	<-first.done
	data, err := DataDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(data, "postmaster.pid")
	src, err := os.ReadFile(file)
	if err != nil {
		t.Fatalf("a killed server leaves its file: %v", err)
	}
	// The number may have gone to another process meanwhile: to this one, say.
	_, rest, _ := strings.Cut(string(src), "\n")
	if err := os.WriteFile(file, []byte("1\n"+rest), 0o600); err != nil {
		t.Fatal(err)
	}
	run(t, start(t, dir).URL, "select n from kept")
}

// TestKilledServerIsRestarted kills the server: it is started again at the same
// address, with what it held.
func TestKilledServerIsRestarted(t *testing.T) {
	c := start(t, scratch(t))
	run(t, c.URL, "create table kept (n int)")
	c.mu.Lock()
	err := c.cmd.Process.Signal(syscall.SIGKILL)
	done := c.done
	c.mu.Unlock()
	if err != nil {
		t.Fatal(err)
	}
	<-done
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if conn, err := pgx.Connect(t.Context(), c.URL); err == nil {
			conn.Close(t.Context())
			break
		} else if time.Now().After(deadline) {
			t.Fatal(err)
		}
	}
	run(t, c.URL, "select n from kept")
}

func TestIncompleteDataDirectoryIsRecreated(t *testing.T) {
	dir := scratch(t)
	data, err := DataDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(data, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(data, "PG_VERSION"), []byte("15\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	run(t, start(t, dir).URL, "select 1")
}

// TestServerThatExitsIsRestarted has something in the way of the server that
// goes after its first try, as what is left of a killed one does.
func TestServerThatExitsIsRestarted(t *testing.T) {
	dir := scratch(t)
	first := start(t, dir)
	run(t, first.URL, "create table kept (n int)")
	first.Stop()
	conf := filepath.Join(first.Dir, "postgresql.conf")
	good, err := os.ReadFile(conf)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(conf, append(good, "nonsense = 1\n"...), 0o600); err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	all.Go(func() {
		for t.Context().Err() == nil {
			if log, _ := os.ReadFile(filepath.Join(dir, "postgres.log")); strings.Contains(string(log), "nonsense") {
				_ = os.WriteFile(conf, good, 0o600) // start says if that failed
				return
			}
			runtime.Gosched()
		}
	})
	run(t, start(t, dir).URL, "select n from kept")
	all.Wait()
}
