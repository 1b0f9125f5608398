package files

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/admission"
	"ubiquon/internal/background"
	"ubiquon/internal/blob"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/rendering"
	"ubiquon/internal/store/files"
)

const (
	// claimFor is for how long a node that makes a picture is waited for: longer than making one and
	// waiting for a turn take.
	claimFor = 30 * time.Second
	// waitEvery is how often a picture is looked for that another node makes.
	waitEvery = 100 * time.Millisecond
	// mostLate bounds the pictures that are made in the background; what is too much is made when it
	// is asked for again.
	mostLate = 100
)

// Rendition is a picture that was made of another.
type Rendition struct {
	Reader    blob.Reader
	Item      blob.Item
	MediaType string
	// Tag is its entity tag, without quotes.
	Tag string
	// Later says that a smaller one will be there soon: it is not to be kept for long.
	Later bool
}

// order is a picture that is asked for.
type order struct {
	blob    files.Blob
	job     picture.Job
	quality int
}

// key names what is ordered.
func (o *order) key() files.Key {
	name := o.job.Name()
	if o.quality > 0 {
		name += "@" + strconv.Itoa(o.quality)
	}
	return files.Key{Hash: o.blob.Hash, Name: name}
}

// keptPicture is a picture that is kept, and where.
type keptPicture struct{ mediaType, at, tag string }

// blobKey is where a rendition is kept.
func blobKey(k files.Key) string {
	sum := sha256.Sum256([]byte(k.Name))
	return "picture/" + k.Hash + "-" + hex.EncodeToString(sum[:12])
}

// Picture returns a picture made of bytes: one that is kept, or else it is made, once on all
// nodes. Where the format is left to the reader, accept says which ones it takes. Its error is a
// *Problem, admission.ErrOverloaded or a context's.
func (s *Service) Picture(
	ctx context.Context, b files.Blob, j picture.Job, quality int, accept string,
) (Rendition, error) {
	o := order{b, j, quality}
	later := j.Format == picture.AutoFormat && s.chooseFormat(&o, accept)
	for range 2 {
		kept, err := s.have(ctx, o)
		if err != nil {
			return Rendition{}, err
		}
		r, item, err := s.held.Open(ctx, kept.at)
		if !errors.Is(err, blob.ErrNotFound) {
			return Rendition{r, item, kept.mediaType, kept.tag, later}, err
		}
		// Somebody has removed it from the blob store: it is made again.
		k := o.key()
		s.mu.Lock()
		delete(s.made, k)
		s.mu.Unlock()
		if err := s.store.GiveUp(ctx, k.Hash, k.Name); err != nil {
			return Rendition{}, err
		}
	}
	return Rendition{}, fmt.Errorf("the picture %s is not kept", o.key().Name)
}

// chooseFormat sets the best format that a reader takes. later tells that there is a better one,
// which is made in the background: AVIF takes long.
func (s *Service) chooseFormat(o *order, accept string) (later bool) {
	formats := s.renderer.Formats()
	source := MediaType(o.blob)
	o.job.Format = bestFormat(source, accept, formats)
	if o.job.Format != "avif" {
		return false
	}
	without := bestFormat(source, strings.ReplaceAll(accept, picture.Formats["avif"], ""), formats)
	if number(o.blob.Facts, "frames") > 1 {
		o.job.Format = "webp" // moving ones are made in WebP alone
		return false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	k := o.key()
	if _, made := s.made[k]; made {
		return false
	}
	if !s.lateAVIF[k] {
		select {
		case s.late <- *o:
			s.lateAVIF[k] = true
		default:
		}
	}
	o.job.Format = without
	return true
}

// bestFormat is the ending of the smallest of the formats that a reader takes.
func bestFormat(source, accept string, formats []string) string {
	for _, f := range formats {
		if (f == "avif" || f == "webp") && strings.Contains(accept, picture.Formats[f]) {
			return f
		}
	}
	if source == "image/png" || source == "image/gif" {
		return "png"
	}
	return "jpg"
}

// lateLoop makes one picture after the other that nobody waits for, so that those who wait are
// served first.
func (s *Service) lateLoop(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case o := <-s.late:
			k := o.key()
			if _, err := s.have(ctx, o); err != nil && !isGone(err) {
				s.log.Debug("a picture was not made in the background", "picture", k.Name, "error", err)
			}
			s.mu.Lock()
			delete(s.lateAVIF, k)
			s.mu.Unlock()
		}
	}
}

// have sees to it that a picture is kept.
func (s *Service) have(ctx context.Context, o order) (keptPicture, error) {
	k := o.key()
	s.mu.Lock()
	kept, ok := s.made[k]
	if ok && len(s.used) < mostKnown {
		s.used[k] = true
	}
	s.mu.Unlock()
	if ok {
		return kept, nil
	}
	out := s.making.DoChan(k.Hash+" "+k.Name, func() (any, error) {
		// Who asked first may go; the others still wait.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), claimFor)
		defer cancel()
		return s.claim(ctx, o, k)
	})
	select {
	case <-ctx.Done():
		return kept, ctx.Err()
	case made := <-out:
		kept, _ = made.Val.(keptPicture)
		return kept, made.Err
	}
}

// claim makes a picture, or waits until another node has made it.
func (s *Service) claim(ctx context.Context, o order, k files.Key) (keptPicture, error) {
	for {
		x, c, err := s.store.Claim(ctx, k.Hash, k.Name, claimFor)
		if err == nil && c == files.Mine {
			x, err = s.render(ctx, o, k)
		}
		switch {
		case err != nil:
			return keptPicture{}, err
		case x.Problem != "":
			return keptPicture{}, &Problem{
				Kind: "broken-file", Reason: "no picture can be made of the file: " + x.Problem,
			}
		case c != files.Theirs:
			return s.remember(k, x.MediaType), nil
		}
		if !background.Sleep(ctx, waitEvery, nil) {
			return keptPicture{}, admission.ErrOverloaded
		}
	}
}

// remember notes that a picture is kept.
func (s *Service) remember(k files.Key, mediaType string) keptPicture {
	sum := sha256.Sum256([]byte(k.Hash + " " + k.Name))
	kept := keptPicture{mediaType, blobKey(k), hex.EncodeToString(sum[:12])}
	s.mu.Lock()
	defer s.mu.Unlock()
	keepIn(s.made, k, kept)
	return kept
}

// render makes a picture and keeps it; or it has a Problem, which is kept too.
func (s *Service) render(ctx context.Context, o order, k files.Key) (files.Rendition, error) {
	x := files.Rendition{MediaType: picture.Formats[o.job.Format], Made: true}
	err := s.make(ctx, o, k, &x)
	var broken *rendering.BrokenError
	if errors.As(err, &broken) {
		x.Problem, err = broken.Reason, nil
	}
	settled := context.WithoutCancel(ctx)
	if err != nil {
		return x, errors.Join(err, s.store.GiveUp(settled, k.Hash, k.Name))
	}
	return x, s.store.Finish(settled, k.Hash, k.Name, x)
}

// make has the renderer make a picture, and puts it into the blob store.
func (s *Service) make(ctx context.Context, o order, k files.Key, x *files.Rendition) error {
	path, done, err := s.blobs.Local(ctx, originalKey(k.Hash))
	if err != nil {
		return err
	}
	defer done()
	out := filepath.Join(s.blobs.Temporary(), "made-"+content.NewID())
	defer os.Remove(out) // it is gone where it was put
	if err := s.renderer.Make(ctx, path, looked(o.blob), o.job, o.quality, out); err != nil {
		return err
	}
	info, err := os.Stat(out)
	if err != nil {
		return err
	}
	x.Bytes = info.Size()
	return s.blobs.Put(ctx, blobKey(k), out)
}
