// Package cluster runs a private PostgreSQL server on loopback, for those who configure none.
package cluster

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Cluster is a running server.
type Cluster struct {
	// URL of its database.
	URL string
	// Dir is where its data lies.
	Dir  string
	done chan struct{}
	cmd  *exec.Cmd

	mu       sync.Mutex // guards done, cmd and stopping
	stopping bool
	watched  chan struct{} // closed when nobody starts the server again any more
}

// passwordFile holds the database's password. It is written last of all when
// the data is made: without it the next start starts again.
const passwordFile = "ubiquon.password"

// Options of Start.
type Options struct {
	// Dir holds everything; it is made if need be.
	Dir string
	// Scratch trades safety for speed: data need not survive a power cut. For
	// tests.
	Scratch bool
	Log     *slog.Logger
}

// Start brings the server up, making its data first if there is none. A server
// that an earlier, killed run left on the same data is stopped before.
func Start(ctx context.Context, o Options) (*Cluster, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	as, err := unprivileged()
	if err != nil {
		return nil, err
	}
	data, err := DataDir(o.Dir)
	if err != nil {
		return nil, err
	}
	dir := filepath.Dir(data)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(data, 0o700); err != nil {
		return nil, err
	}
	if as != nil {
		if err := os.Chown(data, int(as.Uid), int(as.Gid)); err != nil {
			return nil, err
		}
	}
	c := &Cluster{Dir: data}
	password, err := c.initialise(ctx, bin, as, o.Log)
	if err != nil {
		return nil, err
	}
	if err := c.stopLeftOver(ctx, o.Log); err != nil {
		return nil, err
	}
	logFile, err := os.OpenFile(filepath.Join(dir, "postgres.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	defer logFile.Close()
	for try := 1; ; try++ {
		err := c.serve(ctx, bin, as, o.Scratch, password, logFile, 0)
		if err == nil {
			c.watched = make(chan struct{})
			go c.watch(context.WithoutCancel(ctx), bin, as, o, password, logFile.Name())
			return c, nil
		}
		if !errors.Is(err, errEnded) || try == maxStarts {
			return nil, err
		}
		// Processes of a killed server hold on to its memory for a time; or somebody
		// took the port meanwhile.
		o.Log.Info("PostgreSQL ended at once; it is started again", "log", logFile.Name())
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// maxStarts is how often a server is started that ends at once.
const maxStarts = 20

var errEnded = errors.New("PostgreSQL did not start")

// serve starts the server and waits until it is ready.
func (c *Cluster) serve(
	ctx context.Context, bin string, as *syscall.Credential, scratch bool, password string, logFile *os.File,
	port int,
) error {
	if port == 0 {
		var err error
		if port, err = freePort(); err != nil {
			return err
		}
	}
	args := []string{
		"-D",
		c.Dir,
		"-h",
		"127.0.0.1",
		"-p",
		strconv.Itoa(port),
		"-k",
		"",
		"-c",
		"max_connections=200",
		"-c",
		"shared_buffers=256MB",
		// Fewer checkpoints, and smaller records of what they force to be written whole.
		"-c",
		"max_wal_size=4GB",
		"-c",
		"checkpoint_timeout=15min",
		"-c",
		"wal_compression=on",
		"-c",
		"jit=off",
	}
	if scratch {
		args = append(args, "-c", "fsync=off", "-c", "full_page_writes=off", "-c", "synchronous_commit=off")
	}
	done := make(chan struct{})
	cmd := exec.Command(filepath.Join(bin, "postgres"), args...)
	cmd.Stdout, cmd.Stderr, cmd.Dir = logFile, logFile, c.Dir
	// A group of its own: Ctrl-C is for us, who stop the server when we are done.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: as}
	c.mu.Lock()
	if c.stopping {
		c.mu.Unlock()
		return errStopping
	}
	if err := cmd.Start(); err != nil {
		c.mu.Unlock()
		return fmt.Errorf("PostgreSQL: %w", err)
	}
	c.cmd, c.done = cmd, done
	c.mu.Unlock()
	go func() {
		// How it ended is in its own log.
		_ = cmd.Wait()
		close(done)
	}()
	admin := fmt.Sprintf("postgres://ubiquon:%s@127.0.0.1:%d/postgres", password, port)
	if err := c.ready(ctx, admin, logFile.Name()); err != nil {
		c.end()
		return err
	}
	if c.URL != "" {
		return nil // it is there again
	}
	c.URL = fmt.Sprintf("postgres://ubiquon:%s@127.0.0.1:%d/ubiquon", password, port)
	return nil
}

var errStopping = errors.New("the server is being stopped")

// watch starts the server again, on the same port, when it ends without having been told
// to.
func (c *Cluster) watch(
	ctx context.Context, bin string, as *syscall.Credential, o Options, password, logName string,
) {
	defer close(c.watched)
	u, err := url.Parse(c.URL)
	if err != nil {
		return // it is ours
	}
	port, _ := strconv.Atoi(u.Port())
	for {
		c.mu.Lock()
		cmd, done := c.cmd, c.done
		c.mu.Unlock()
		<-done
		if cmd.ProcessState.Success() {
			return // somebody has shut it down
		}
		for wait := 200 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
			c.mu.Lock()
			stopping := c.stopping
			c.mu.Unlock()
			if stopping {
				return
			}
			o.Log.Error("PostgreSQL has ended by itself; it is started again", "log", logName)
			err := c.again(ctx, bin, as, o, password, logName, port)
			if err == nil {
				break
			}
			if errors.Is(err, errStopping) {
				return
			}
			time.Sleep(wait)
		}
	}
}

func (c *Cluster) again(
	ctx context.Context, bin string, as *syscall.Credential, o Options, password, logName string, port int,
) error {
	logFile, err := os.OpenFile(logName, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	return c.serve(ctx, bin, as, o.Scratch, password, logFile, port)
}

// DataDir is where the data of a cluster with this directory lies: under it, or,
// where the server's unprivileged user could not reach that, under /var/tmp.
func DataDir(dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	if os.Getuid() == 0 && !reachable(dir) {
		dir = filepath.Join("/var/tmp", "ubiquon-"+strings.Trim(strings.ReplaceAll(dir, "/", "-"), "-"))
	}
	return filepath.Join(dir, "postgres"), nil
}

// RunningURL is the URL of the server that somebody runs on the directory: for
// looking into its database from outside.
func RunningURL(dir string) (string, error) {
	data, err := DataDir(dir)
	if err != nil {
		return "", err
	}
	password, err := os.ReadFile(filepath.Join(data, passwordFile))
	if err != nil {
		return "", err
	}
	src, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
	if err != nil {
		return "", err
	}
	lines := strings.Split(string(src), "\n")
	if len(lines) < 4 {
		return "", fmt.Errorf("no server runs on %s", dir)
	}
	return fmt.Sprintf(
		"postgres://ubiquon:%s@127.0.0.1:%s/ubiquon", strings.TrimSpace(string(password)),
		strings.TrimSpace(lines[3]),
	), nil
}

// Stop ends the server for good, waiting for it.
func (c *Cluster) Stop() {
	c.mu.Lock()
	c.stopping = true
	c.mu.Unlock()
	c.end()
	if c.watched != nil {
		<-c.watched
	}
}

// end ends the process.
func (c *Cluster) end() {
	c.mu.Lock()
	cmd, done := c.cmd, c.done
	c.mu.Unlock()
	if cmd == nil {
		return
	}
	// SIGINT is PostgreSQL's fast shutdown: no waiting for clients, nothing lost.
	_ = cmd.Process.Signal(syscall.SIGINT)
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		_ = cmd.Process.Signal(syscall.SIGQUIT)
		<-done
	}
}
