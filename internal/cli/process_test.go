package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/demo"
	"ubiquon/internal/outbound"
	"ubiquon/internal/store/events"
	"ubiquon/internal/testkit"
)

// binary builds the program once for the tests that run it as a process.
func binary(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "ubiquon")
	if out, err := exec.Command("go", "build", "-o", path, "../../cmd/ubiquon").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return path
}

// process starts the program and returns when it has printed the text.
func process(t *testing.T, ready string, path string, args ...string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(path, args...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	var errOut bytes.Buffer
	cmd.Stderr = &errOut
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Signal(syscall.SIGINT); cmd.Wait() })
	found := make(chan bool, 1)
	go func() {
		for lines := bufio.NewScanner(out); lines.Scan(); {
			if strings.Contains(lines.Text(), ready) {
				found <- true
			}
		}
		found <- false
	}()
	select {
	case ok := <-found:
		if !ok {
			t.Fatalf("%v ended before it was ready: %s", args, errOut.String())
		}
	case <-time.After(time.Minute):
		t.Fatalf("%v is not ready: %s", args, errOut.String())
	}
	return cmd
}

func dataDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/tmp", "ubiquon-process-")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func card(t *testing.T, dir string) demo.ConnectionInfo {
	t.Helper()
	var c demo.ConnectionInfo
	src, err := os.ReadFile(demo.CardFile(dir))
	if err == nil {
		err = json.Unmarshal(src, &c)
	}
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// TestKillLosesNoAcceptedEvent kills the whole demo with SIGKILL right after
// announcements were accepted, starts it again beside the database server that
// is left behind, and finds every one of them processed.
func TestKillLosesNoAcceptedEvent(t *testing.T) {
	path, dir := binary(t), dataDir(t)
	args := []string{"demo", "--data", dir, "--free-ports"}
	first := process(t, "The Skerry Line is running.", path, args...)
	c := card(t, dir)
	var accepted []string
	for i := range 25 {
		body := fmt.Appendf(
			nil,
			`{"specversion":"1.0","id":"k%d","source":"/office","type":"x.published","subject":"reports/R-%d","time":"2026-11-23T08:00:00Z"}`,
			i, 1001+i%10,
		)
		req, err := http.NewRequest(http.MethodPost, c.Gateway+"/hooks/harbour-office", bytes.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/cloudevents+json")
		if err := outbound.Sign(req.Header, c.HookSecret, fmt.Sprintf("kill-%d", i), time.Now(), body); err != nil {
			t.Fatal(err)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		var answer struct{ Event string }
		if err := json.NewDecoder(resp.Body).Decode(&answer); err != nil || resp.StatusCode != 202 {
			t.Fatalf("%s, %v", resp.Status, err)
		}
		resp.Body.Close()
		accepted = append(accepted, answer.Event)
	}
	if err := first.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	first.Wait()
	process(t, "The Skerry Line is running.", path, args...)
	again := card(t, dir)
	if again.Keys != c.Keys {
		t.Error("the keys are others after the second start")
	}
	s := &client.Client{Address: again.Gateway, Key: again.Keys.Admin}
	for _, id := range accepted {
		testkit.Eventually(t, "event "+id+" is done", func() bool {
			e, err := s.Origins().Event(t.Context(), id)
			return err == nil && e.State == events.EventDone
		})
	}
}

func TestServeByItself(t *testing.T) {
	path, dir := binary(t), dataDir(t)
	file := filepath.Join(dir, "ubiquon.yaml")
	if err := os.MkdirAll(filepath.Join(dir, "model"), 0o755); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		file:                                  "listen: 127.0.0.1:0\ndata: data\nmodel: model\n",
		filepath.Join(dir, "model", "m.yaml"): smallModel,
	} {
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.Command(path, "serve", "--config", file, "--log-format", "json")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var key, address string
	for lines := bufio.NewScanner(out); address == "" && lines.Scan(); {
		for _, word := range strings.Fields(lines.Text()) {
			if strings.HasPrefix(word, "ubq_") {
				key = word
			}
			if strings.HasPrefix(word, "http://") && !strings.Contains(word, "#") && address == "" {
				address = strings.TrimSuffix(word, ",")
			}
		}
	}
	s := &client.Client{Address: address, Key: key}
	if done, err := s.Entries().Edit(t.Context(), api.Edit{
		ID: "p1", Type: "pier",
		Save: map[string]any{"name": "Mella"},
		Do:   "publish",
	}); err != nil ||
		done.Sequence == 0 {
		t.Fatalf("writing with the first key: %+v, %v", done, err)
	}
	if a, err := s.Do(t.Context(), http.MethodGet, "/content/main/published/piers?fields=name", nil, nil); err != nil ||
		!strings.Contains(string(a.Body), `"Mella"`) {
		t.Errorf("reading it: %v %s", err, a.Body)
	}
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("a stop by SIGTERM: %v", err)
	}
	if pid, err := os.ReadFile(filepath.Join(dir, "data", "postgres", "postmaster.pid")); err == nil {
		t.Errorf("PostgreSQL is left running: %s", pid)
	}
}

// TestTourAsAProcess plays the tour as a newcomer would, with the binary.
func TestTourAsAProcess(t *testing.T) {
	out, err := exec.Command(binary(t), "demo", "--once", "--data", dataDir(t), "--slipway-delay", "100ms").
		CombinedOutput()
	if err != nil || !strings.Contains(string(out), "Every step happened.") {
		t.Errorf("%v\n%s", err, out)
	}
}
