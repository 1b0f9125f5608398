package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
)

// files measures pictures: making one against the tools' own command line, a kept one against a
// bare file server, one that many ask for at once, uploads, what a srcset costs a list, and a large
// library.
func (y *harness) files(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "ubiquon-bench-files-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	c := &client.Client{Address: y.demo.Connection.Gateway, Key: y.demo.Connection.Keys.Admin}
	for _, part := range []func(context.Context, *client.Client, string) error{
		y.rendering, y.keptPictures, y.oneForAll, y.uploading, y.srcsets, y.largeLibrary,
	} {
		if err := part(ctx, c, dir); err != nil {
			return err
		}
	}
	return nil
}

// photo is a JPEG of that size with something in it; n makes it another one.
func photo(w, h, n int) ([]byte, error) {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.SetRGBA(x, y, color.RGBA{uint8(x*y/700 + n), uint8(x/9 ^ y/7), uint8(y / 5), 255})
		}
	}
	var b bytes.Buffer
	err := jpeg.Encode(&b, img, &jpeg.Options{Quality: 85})
	return b.Bytes(), err
}

// rendering makes pictures of one of 24 megapixels, each in a width of its own.
func (y *harness) rendering(ctx context.Context, c *client.Client, dir string) error {
	src, err := photo(6000, 4000, 0)
	if err != nil {
		return err
	}
	path := filepath.Join(dir, "large.jpg")
	if err := os.WriteFile(path, src, 0o600); err != nil {
		return err
	}
	f, err := c.Files().Upload(ctx, bytes.NewReader(src), api.FileUpload{Name: "large.jpg", Publish: true})
	if err != nil {
		return err
	}
	before := resident()
	var theirs, ours []time.Duration
	for i := range y.rounds {
		width := 1200 + i
		begun := time.Now()
		out := filepath.Join(dir, "out.webp[strip,Q=80,effort=3]")
		if err := exec.CommandContext(ctx, "vips", "thumbnail", path, out, fmt.Sprint(width)).Run(); err != nil {
			return fmt.Errorf("vips (apt-get install libvips-tools): %w", err)
		}
		theirs = append(theirs, time.Since(begun))
		begun = time.Now()
		if _, err := got(ctx, fmt.Sprintf("%s/full/%d,/0/default.webp", f.Image, width), c.Key); err != nil {
			return err
		}
		ours = append(ours, time.Since(begun))
	}
	slices.Sort(theirs)
	slices.Sort(ours)
	t, o := theirs[len(theirs)/2], ours[len(ours)/2]
	var children syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_CHILDREN, &children); err != nil {
		return err
	}
	fmt.Printf(
		"  24 MP → 1,200 px WebP: the tools %s, ours %s, %.2f of their speed; memory of the service %+d MB, "+
			"of a child at most %d MB\n",
		t.Round(
			time.Millisecond,
		),
		o.Round(time.Millisecond),
		float64(t)/float64(o),
		(resident()-before)>>20,
		children.Maxrss>>10,
	)
	return nil
}

// got gets what is at an address, and its size.
func got(ctx context.Context, address, key string) (int64, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return 0, err
	}
	if key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	n, err := io.Copy(io.Discard, resp.Body)
	if err == nil && resp.StatusCode/100 != 2 {
		err = fmt.Errorf("%s: %s", address, resp.Status)
	}
	return n, err
}

// keptPictures serves one that is kept, beside a file server with the same bytes.
func (y *harness) keptPictures(ctx context.Context, c *client.Client, dir string) error {
	src, err := photo(1600, 1000, 1)
	if err != nil {
		return err
	}
	f, err := c.Files().Upload(ctx, bytes.NewReader(src), api.FileUpload{Name: "kept.jpg", Publish: true})
	if err != nil {
		return err
	}
	address := f.Image + "/full/640,/0/default.jpg"
	resp, err := http.Get(address)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	made, err := io.ReadAll(resp.Body)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "kept.jpg"), made, 0o600); err != nil {
		return err
	}
	bare, stop, err := beside(http.FileServer(http.Dir(dir)))
	if err != nil {
		return err
	}
	defer stop()
	for _, one := range []struct {
		name    string
		headers []string
	}{
		{"whole", nil},
		{"a range", []string{"Range: bytes=1000-1999"}},
		{"with its entity tag", []string{"If-None-Match: " + resp.Header.Get("ETag")}},
	} {
		var ratios []float64
		for range y.rounds {
			reference, err := y.loadBare(ctx, bare+"/kept.jpg", one.headers...)
			if err != nil {
				return err
			}
			ours, err := y.loadBare(ctx, address, one.headers...)
			if err != nil {
				return err
			}
			ratios = append(ratios, ours/reference)
		}
		fmt.Printf(
			"  a kept picture of %d KB, %s: %.2f of a bare file server\n",
			len(made)>>10,
			one.name,
			median(ratios),
		)
	}
	return nil
}

// oneForAll asks for one that is not made yet a thousand times at once.
func (y *harness) oneForAll(ctx context.Context, c *client.Client, _ string) error {
	src, err := photo(3000, 2000, 2)
	if err != nil {
		return err
	}
	f, err := c.Files().Upload(ctx, bytes.NewReader(src), api.FileUpload{Name: "all.jpg", Publish: true})
	if err != nil {
		return err
	}
	before := y.demo.Environment.Files.Made()
	var all sync.WaitGroup
	var failed atomic.Int64
	begun := time.Now()
	for range 1000 {
		all.Go(func() {
			if _, err := got(ctx, f.Image+"/full/960,/0/default.webp", ""); err != nil {
				failed.Add(1)
			}
		})
	}
	all.Wait()
	fmt.Printf("  1,000 at once for a new picture: %d made, %d failed, all answered in %s\n",
		y.demo.Environment.Files.Made()-before, failed.Load(), time.Since(begun).Round(time.Millisecond))
	return nil
}

// uploading sends a hundred files of 10 MB at once.
func (y *harness) uploading(ctx context.Context, c *client.Client, _ string) error {
	const n, size = 100, 10 << 20
	before := resident()
	most := atomic.Int64{}
	var all sync.WaitGroup
	errs := make([]error, n)
	begun := time.Now()
	for i := range n {
		all.Go(func() {
			body := io.MultiReader(bytes.NewReader(fmt.Appendf(nil, "number %d\n", i)), io.LimitReader(zeros{}, size))
			_, errs[i] = c.Files().Upload(ctx, body, api.FileUpload{Name: fmt.Sprintf("n%d.bin", i)})
			most.Store(max(most.Load(), resident()))
		})
	}
	all.Wait()
	fmt.Printf("  %d uploads of 10 MB at once: %s, memory of service and client together %+d MB at most\n", n,
		time.Since(begun).Round(time.Millisecond), (most.Load()-before)>>20)
	return errors.Join(errs...)
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}

// srcsets reads a list of 200 entries that show pictures, computed each time, with and without a srcset.
func (y *harness) srcsets(ctx context.Context, c *client.Client, _ string) error {
	all, err := c.Files().List(ctx, api.FileFilter{Type: "image/*", Limit: 1})
	if err != nil || len(all.Items) == 0 {
		return errors.Join(err, errors.New("there is no picture"))
	}
	for i := range 10 {
		var edits []api.Edit
		for j := range 20 {
			edits = append(edits, api.Edit{Type: "pier", Do: "publish", Save: map[string]any{
				"name": fmt.Sprintf("Bench %d %d", i, j), "picture": map[string]any{"file": all.Items[0].ID},
			}})
		}
		if _, err := c.Entries().Edit(ctx, edits...); err != nil {
			return err
		}
	}
	times := map[string][]time.Duration{}
	reads := []string{"name,slug,picture(url,alt)", "name,slug,picture(url,alt,srcset)", "name,slug,summary"}
	for range 40 * y.rounds {
		for _, fields := range reads {
			begun := time.Now()
			a, err := c.Do(
				ctx,
				http.MethodGet,
				"/content/main/published/piers?limit=200&fields="+url.QueryEscape(fields),
				http.Header{"Cache-Control": {"no-store"}},
				nil,
			)
			if err == nil {
				err = a.Err()
			}
			if err != nil {
				return err
			}
			times[fields] = append(times[fields], time.Since(begun))
		}
	}
	for _, fields := range reads {
		p50, _ := spread(times[fields])
		plain, _ := spread(times[reads[0]])
		fmt.Printf(
			"  200 entries, %s: p50 %s, %.2f of the speed without srcset\n",
			fields,
			p50.Round(10*time.Microsecond),
			float64(plain)/float64(p50),
		)
	}
	return nil
}

// largeLibrary fills the library and looks into it.
func (y *harness) largeLibrary(ctx context.Context, c *client.Client, _ string) error {
	total := y.entries
	f, err := c.Files().Upload(ctx, bytes.NewReader([]byte("the same bytes\n")), api.FileUpload{Name: "same.txt"})
	if err != nil {
		return err
	}
	in, out := io.Pipe()
	go func() {
		for i := range total {
			fmt.Fprintf(
				out,
				`{"id":"library-%d","type":"file","fields":{"name":"file %d.txt","hash":%q,"credit":"Skerry Line"}}`+"\n",
				i,
				i,
				f.Hash,
			)
		}
		out.Close()
	}()
	begun := time.Now()
	var last api.ImportProgress
	if err := c.Entries().Import(ctx, in, api.ImportOptions{}, func(p api.ImportProgress) { last = p }); err != nil {
		return err
	}
	if last.Written != total {
		return fmt.Errorf("%d of %d files were written", last.Written, total)
	}
	fmt.Printf("  %d files imported in %s\n", total, time.Since(begun).Round(time.Second))
	for name, ask := range map[string]func() error{
		"list":       func() error { _, err := c.Files().List(ctx, api.FileFilter{}); return err },
		"search":     func() error { _, err := c.Files().List(ctx, api.FileFilter{Search: "file 77"}); return err },
		"unused":     func() error { _, err := c.Files().List(ctx, api.FileFilter{Use: "unused"}); return err },
		"where used": func() error { _, err := c.Files().Get(ctx, f.ID); return err },
	} {
		var took []time.Duration
		for range 20 {
			begun := time.Now()
			if err := ask(); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			took = append(took, time.Since(begun))
		}
		slices.Sort(took)
		fmt.Printf(
			"  a library of %d files, %s: p50 %s, p95 %s\n",
			total,
			name,
			took[10].Round(100*time.Microsecond),
			took[18].Round(100*time.Microsecond),
		)
	}
	return nil
}
