package recurring

import (
	"bytes"
	"log/slog"
	"strings"
	"testing"
	"testing/synctest"
	"time"
)

func TestRepeatedFailureIsLoggedOnceAndCounted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var out bytes.Buffer
		log := slog.New(slog.NewTextHandler(&out, nil))
		var l Log
		for range 130 { // for a little more than two minutes
			l.Failed(log, "no room", "path", "/x")
			time.Sleep(time.Second)
		}
		l.Failed(log, "another")
		lines := strings.Split(strings.TrimSpace(out.String()), "\n")
		if len(lines) != 4 || strings.Contains(lines[0], "times=") || !strings.Contains(lines[1], "times=60") ||
			!strings.Contains(lines[1], "path=/x") {
			t.Errorf("%d lines:\n%s", len(lines), out.String())
		}
		if n := l.Counts(); n["no room"] != 130 || n["another"] != 1 {
			t.Errorf("%v", n)
		}
		if lasting := l.Lasting(time.Minute); len(lasting) != 2 || time.Since(lasting["no room"]) < 2*time.Minute {
			t.Errorf("%v", lasting)
		}
		l.Over("no room")
		l.Over("what never failed")
		if lasting := l.Lasting(time.Minute); len(lasting) != 1 || l.Counts()["no room"] != 130 {
			t.Errorf("after it was done: %v", lasting)
		}
		time.Sleep(10 * time.Minute)
		if len(l.Lasting(time.Minute)) != 0 {
			t.Error("what is over lasts")
		}
		out.Reset()
		if l.Failed(log, "no room"); strings.Contains(out.String(), "times=") {
			t.Errorf("a new failure is told as an old one: %s", out.String())
		}
		for i := range 300 {
			l.Failed(log, strings.Repeat("x", i))
		}
		if len(l.Counts()) > most+1 {
			t.Error("failures are told apart without a bound")
		}
	})
}
