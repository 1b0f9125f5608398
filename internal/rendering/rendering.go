// Package rendering looks at pictures and makes others of them, in child processes with bounds on
// memory, time and files: no picture can harm the service. It uses Debian's libvips tools, and
// where they are missing a child of the service's own program that knows JPEG, PNG, GIF and WebP.
package rendering

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"ubiquon/internal/admission"
	"ubiquon/internal/core/picture"
)

// The bounds of one child process.
const (
	maxMemory  = 512 << 20
	maxWritten = 512 << 20
	maxFiles   = 64
	// MaxPixels bounds what is decoded, all frames together.
	MaxPixels = 100_000_000
	// Timeout is how long one picture may take of a processor. On a busy machine that
	// takes longer: a child is ended after slack times as long, which is not its picture's fault.
	Timeout = 10 * time.Second
	slack   = 4
	// mostWaiting bounds what waits for its turn, and patience for how long.
	mostWaiting = 200
	patience    = 15 * time.Second
	// maxSays is how much of what a child says is read.
	maxSays = 16 << 10
)

// Options of New.
type Options struct {
	// WithoutTools has pictures made by the service's own program though the tools are there.
	WithoutTools bool
	// AtOnce bounds the child processes; 0 means one for each processor.
	AtOnce int
	// Waiting bounds what waits for its turn, 0 means 200; of one principal half of that.
	Waiting int
	// Timeout is how long one picture may take of a processor; 0 means Timeout.
	Timeout time.Duration
}

// Renderer makes pictures. It is safe for concurrent use.
type Renderer struct {
	vips, header, limits, nice, self string
	timeout                          time.Duration
	turns                            *admission.Queue
	// Made counts the pictures that were made.
	Made atomic.Int64
}

// BrokenError says what is wrong with a picture, for those who have uploaded it.
type BrokenError struct{ Reason string }

func (e *BrokenError) Error() string { return e.Reason }

// New finds the tools.
func New(o Options) *Renderer {
	r := &Renderer{timeout: o.Timeout}
	if r.timeout == 0 {
		r.timeout = Timeout
	}
	if !o.WithoutTools {
		r.vips, _ = exec.LookPath("vips")
		r.header, _ = exec.LookPath("vipsheader")
		if r.header == "" {
			r.vips = ""
		}
	}
	r.limits, _ = exec.LookPath("prlimit")
	r.nice, _ = exec.LookPath("nice")
	r.self, _ = os.Executable()
	n := o.AtOnce
	if n == 0 {
		n = runtime.NumCPU()
	}
	waiting := cmp.Or(o.Waiting, mostWaiting)
	r.turns = admission.New(admission.Options{
		AtOnce: n, PerPrincipal: max(n/2, 1), Waiting: waiting, WaitingPerPrincipal: max(waiting/2, 1),
		Patience: patience,
	})
	return r
}

// HasTools tells whether the libvips tools are there.
func (r *Renderer) HasTools() bool { return r.vips != "" }

// Formats lists the endings of the formats that pictures can be made in.
func (r *Renderer) Formats() []string {
	if r.HasTools() {
		return []string{"avif", "webp", "jpg", "png"}
	}
	return []string{"jpg", "png"}
}

type principalKey struct{}

// For says who asks for pictures: who asks for many waits behind those who ask for few.
func For(ctx context.Context, principal string) context.Context {
	return context.WithValue(ctx, principalKey{}, principal)
}

// enter waits for a turn. Its error is admission.ErrOverloaded or a context's.
func (r *Renderer) enter(ctx context.Context) (leave func(), err error) {
	principal, _ := ctx.Value(principalKey{}).(string)
	return r.turns.Enter(ctx, principal, false)
}

// Facts are what a picture's bytes tell.
type Facts struct {
	// Width and Height as it is seen upright.
	Width, Height int
	Frames        int
	// Turned says that the bytes hold it otherwise than upright.
	Turned bool
	// Profiled says that it has a colour profile of its own; what is made of it is sRGB.
	Profiled bool
	// Color is the dominant colour, as in #2a6f7f, and Placeholder a tiny picture as a data address.
	Color, Placeholder string
}

// Look decodes a picture wholly, and says what it is. Its error is a *BrokenError if the picture
// is the reason.
func (r *Renderer) Look(ctx context.Context, path, mediaType string) (Facts, error) {
	path, err := filepath.Abs(path) // children work elsewhere
	if err != nil {
		return Facts{}, err
	}
	leave, err := r.enter(ctx)
	if err != nil {
		return Facts{}, err
	}
	defer leave()
	ctx, cancel := context.WithTimeout(ctx, r.timeout*slack)
	defer cancel()
	if !r.HasTools() {
		return r.lookOurselves(ctx, path)
	}
	return r.look(ctx, path, mediaType)
}

// Make makes a picture of the file at path into another file. quality is that of the compression,
// 0 for what is usual. Its error is admission.ErrOverloaded, a *BrokenError, or
// a context's.
func (r *Renderer) Make(ctx context.Context, path string, f Facts, j picture.Job, quality int, out string) error {
	path, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	if out, err = filepath.Abs(out); err != nil {
		return err
	}
	leave, err := r.enter(ctx)
	if err != nil {
		return err
	}
	defer leave()
	ctx, cancel := context.WithTimeout(ctx, r.timeout*slack)
	defer cancel()
	if r.HasTools() {
		err = r.make(ctx, path, f, j, quality, out)
	} else {
		err = r.makeOurselves(ctx, path, j, quality, out)
	}
	if err == nil {
		r.Made.Add(1)
	}
	if err != nil {
		_ = os.Remove(out)
	}
	return err
}

// run runs a child within its bounds, and returns what it says.
func (r *Renderer) run(ctx context.Context, dir string, stdin []byte, argv ...string) ([]byte, error) {
	if r.limits != "" {
		argv = append([]string{
			r.limits, "--data=" + strconv.Itoa(maxMemory), "--fsize=" + strconv.Itoa(maxWritten),
			"--nofile=" + strconv.Itoa(
				maxFiles,
			), "--core=0", "--cpu=" + strconv.Itoa(int((r.timeout+time.Second-1)/time.Second)), "--",
		}, argv...)
	}
	if r.nice != "" {
		// What answers readers goes first.
		argv = append([]string{r.nice, "-n", "10"}, argv...)
	}
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Dir = dir
	cmd.Stdin = bytes.NewReader(stdin)
	cmd.Env = []string{
		"PATH=/usr/bin:/bin", "HOME=" + dir, "TMPDIR=" + dir, "LC_ALL=C.UTF-8", "VIPS_BLOCK_UNTRUSTED=1",
		"VIPS_CONCURRENCY=2", "MALLOC_ARENA_MAX=2", ChildVariable + "=1", "GOMEMLIMIT=" + strconv.Itoa(maxMemory*3/4),
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	var out, says bounded
	cmd.Stdout, cmd.Stderr = &out, &says
	// The parent's death ends the child: the thread that started it must live.
	runtime.LockOSThread()
	err := cmd.Run()
	runtime.UnlockOSThread()
	switch {
	case err == nil:
	case tookAll(cmd.ProcessState, r.timeout):
		return nil, &BrokenError{fmt.Sprintf("it takes a processor more than %s to decode", r.timeout)}
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return nil, admission.ErrOverloaded
	case ctx.Err() != nil:
		return nil, ctx.Err()
	default:
		var exit *exec.ExitError
		if !errors.As(err, &exit) {
			return nil, fmt.Errorf("a picture cannot be made: %w", err)
		}
		return nil, &BrokenError{reason(says.String(), dir)}
	}
	return out.Bytes(), nil
}

// tookAll tells whether a child that has ended had the processor for as long as it may, or
// nearly: it is ended by the system's clock, which counts whole ticks.
func tookAll(ended *os.ProcessState, limit time.Duration) bool {
	return ended != nil && ended.UserTime()+ended.SystemTime() >= limit-limit/10
}

// reason is the first thing that a child complains of, without the names of our files.
func reason(says, dir string) string {
	for line := range strings.SplitSeq(says, "\n") {
		line = strings.TrimSpace(strings.ReplaceAll(line, dir+"/", ""))
		if line == "" || strings.Contains(line, "VIPS-WARNING") {
			continue
		}
		if i := strings.Index(line, `" `); i > 0 && strings.Contains(line[:i], "/") {
			line = line[i+2:]
		}
		return "it cannot be decoded: " + line
	}
	return "it cannot be decoded: the decoder came to its bounds"
}

// bounded takes so much of what a child says and drops the rest.
type bounded struct{ bytes.Buffer }

func (b *bounded) Write(p []byte) (int, error) {
	if left := maxSays - b.Len(); left > 0 {
		b.Buffer.Write(p[:min(left, len(p))])
	}
	return len(p), nil
}

// workplace makes a directory for the files of one child.
func workplace(near string) (string, func(), error) {
	dir, err := os.MkdirTemp(filepath.Dir(near), "making-*")
	if err != nil {
		return "", nil, err
	}
	return dir, func() { _ = os.RemoveAll(dir) }, nil
}

// checkSize refuses what takes too much to decode.
func checkSize(width, height, frames int) error {
	if width <= 0 || height <= 0 {
		return &BrokenError{"it has no pixels"}
	}
	if int64(width)*int64(height)*int64(max(frames, 1)) > MaxPixels {
		return &BrokenError{
			fmt.Sprintf(
				"it has %d × %d pixels in %d frames; at most %d in all are decoded",
				width,
				height,
				max(frames, 1),
				MaxPixels,
			),
		}
	}
	return nil
}
