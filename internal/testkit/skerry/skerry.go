// Package skerry runs a package's tests beside one running demo.
package skerry

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"testing"
	"time"

	"ubiquon/console"
	"ubiquon/internal/demo"
	"ubiquon/internal/rendering"
	"ubiquon/internal/standin/mailbox"
	"ubiquon/internal/testkit"
	"ubiquon/internal/testkit/browser"
)

// Main starts a demo, hands it over, runs the tests and stops it.
func Main(m *testing.M, line **demo.Demo) {
	rendering.RunIfChild()
	dir, err := os.MkdirTemp("/tmp", "ubiquon-demo-")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err == nil {
		*line, err = Start(dir, false)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "the demo does not start:", err)
		os.Exit(1)
	}
	code := m.Run()
	browser.Close()
	(*line).Close()
	os.RemoveAll(dir)
	os.Exit(code)
}

// Start starts a demo on free ports that need not survive a power cut.
func Start(dir string, fresh bool) (*demo.Demo, error) {
	return demo.Start(
		context.Background(),
		demo.Options{
			Data:      dir,
			Listen:    "127.0.0.1:0",
			Office:    "127.0.0.1:0",
			Slipway:   "127.0.0.1:0",
			Scratch:   true,
			Fresh:     fresh,
			Console:   console.Files(),
			Reconcile: time.Hour,
		},
	)
}

// Mail waits for a message to somebody with a subject, and returns the newest.
func Mail(t testing.TB, line *demo.Demo, to, subject string) (found mailbox.Message) {
	t.Helper()
	testkit.Eventually(t, "mail to "+to+": "+subject, func() bool {
		resp, err := http.Get(line.Connection.Mailbox + "/messages")
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var all struct{ Items []mailbox.Message }
		if err := json.NewDecoder(resp.Body).Decode(&all); err != nil {
			t.Fatal(err)
		}
		for _, m := range all.Items {
			if m.To == to && m.Subject == subject {
				found = m
				return true
			}
		}
		return false
	})
	return found
}
