package cluster

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

func (c *Cluster) initialise(
	ctx context.Context, bin string, as *syscall.Credential, log *slog.Logger,
) (password string, err error) {
	secret := filepath.Join(c.Dir, passwordFile)
	if src, err := os.ReadFile(secret); err == nil {
		return strings.TrimSpace(string(src)), nil
	}
	if left, _ := os.ReadDir(c.Dir); len(left) > 0 {
		log.Info("clearing away a database that an earlier start did not finish making", "dir", c.Dir)
		for _, f := range left {
			if err := os.RemoveAll(filepath.Join(c.Dir, f.Name())); err != nil {
				return "", err
			}
		}
	}
	log.Info("making a private PostgreSQL database", "dir", c.Dir)
	password = rand.Text()
	pw, err := os.CreateTemp("", "ubiquon-initdb-")
	if err != nil {
		return "", err
	}
	defer os.Remove(pw.Name())
	if _, err := pw.WriteString(password); err != nil {
		return "", err
	}
	pw.Close()
	if as != nil {
		if err := os.Chown(pw.Name(), int(as.Uid), int(as.Gid)); err != nil {
			return "", err
		}
	}
	cmd := exec.CommandContext(
		ctx, filepath.Join(bin, "initdb"), "-D", c.Dir, "-U", "ubiquon", "-A", "scram-sha-256", "--pwfile", pw.Name(),
		"-E", "UTF8", "--locale", "C.UTF-8", "--no-sync",
	)
	cmd.Dir = c.Dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("initdb: %w\n%s", err, out)
	}
	return password, os.WriteFile(secret, []byte(password), 0o600)
}

// stopLeftOver stops a server that still runs on the data and takes away the
// process id file of one that is gone.
func (c *Cluster) stopLeftOver(ctx context.Context, log *slog.Logger) error {
	file := filepath.Join(c.Dir, "postmaster.pid")
	src, err := os.ReadFile(file)
	if err != nil {
		return nil
	}
	first, _, _ := strings.Cut(string(src), "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(first))
	if err != nil || !c.isOurs(pid) {
		return os.Remove(file)
	}
	log.Info("stopping the PostgreSQL server that an earlier run left behind", "pid", pid)
	if err := syscall.Kill(pid, syscall.SIGINT); err != nil {
		return fmt.Errorf("the PostgreSQL server left behind (process %d) cannot be stopped: %w", pid, err)
	}
	for c.isOurs(pid) {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	return nil
}

// isOurs tells whether the process is a PostgreSQL server on our data.
func (c *Cluster) isOurs(pid int) bool {
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err == nil && bytes.Contains(line, []byte("postgres")) && bytes.Contains(line, []byte(c.Dir))
}

func (c *Cluster) ready(ctx context.Context, url, logFile string) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, url)
		if err == nil {
			defer conn.Close(ctx)
			var there bool
			if err := conn.QueryRow(ctx, `select exists (select from pg_database where datname =
				'ubiquon')`).Scan(&there); err != nil ||
				there {
				return err
			}
			_, err = conn.Exec(ctx, `create database ubiquon`)
			return err
		}
		select {
		case <-c.done:
			return fmt.Errorf("%w; its log is %s", errEnded, logFile)
		case <-ctx.Done():
			return fmt.Errorf("PostgreSQL is not ready after a minute (%w); its log is %s", err, logFile)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// binaries finds the newest PostgreSQL server on the machine.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		if path, err := exec.LookPath("postgres"); err == nil {
			return filepath.Dir(path), nil
		}
		return "", errors.New(
			"there is no PostgreSQL server on this machine; install it with: apt-get install postgresql",
		)
	}
	sort.Slice(found, func(i, j int) bool { return versionOf(found[i]) < versionOf(found[j]) })
	return filepath.Dir(found[len(found)-1]), nil
}

func versionOf(path string) int {
	n, _ := strconv.Atoi(strings.Split(path, "/")[4])
	return n
}

// unprivileged returns whom to run the server as; nil when we are nobody
// special ourselves.
func unprivileged() (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
	}
	return nil, errors.New(
		"PostgreSQL refuses to run as root, and there is neither a user postgres nor nobody to run it as",
	)
}

// reachable tells whether everybody may pass through the directories above.
func reachable(dir string) bool {
	for ; dir != "/"; dir = filepath.Dir(dir) {
		if info, err := os.Stat(dir); err == nil && info.Mode()&0o001 == 0 {
			return false
		}
	}
	return true
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
