package demo

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// tideRepository makes the repository of the tide tables, unless it is there, and returns its directory.
func tideRepository(ctx context.Context, data string) (string, error) {
	dir, err := filepath.Abs(filepath.Join(data, "tides"))
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(filepath.Join(dir, ".git")); !errors.Is(err, fs.ErrNotExist) {
		return dir, err
	}
	tables, err := fs.Sub(skerry, "skerry/tides")
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	if err := os.CopyFS(dir, tables); err != nil {
		return "", err
	}
	for _, args := range [][]string{
		{"init", "-q", "-b", "main"},
		{"config", "user.name", "Jon Askvoll"},
		{"config", "user.email", "jon@skerry.example"},
		{"add", "-A"},
		{"commit", "-q", "-m", "Tide tables for weeks 49 and 50"},
	} {
		c := exec.CommandContext(ctx, "git", args...)
		c.Dir = dir
		if out, err := c.CombinedOutput(); err != nil {
			return "", fmt.Errorf("git %s: %w: %s (it is in Debian's package git)", args[0], err,
				strings.TrimSpace(string(out)))
		}
	}
	return dir, nil
}
