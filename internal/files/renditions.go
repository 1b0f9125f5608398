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

	"ubiquon/internal/background"
	"ubiquon/internal/blob"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/rendering"
	"ubiquon/internal/store/files"
)

// claimFor is for how long a node that makes a picture is waited for: longer than making one and
// waiting for a turn take.
const claimFor = 30 * time.Second

// waitEvery is how often a picture is looked for that another node makes.
const waitEvery = 100 * time.Millisecond

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

func renditionName(j picture.Job, quality int) string {
	if quality > 0 {
		return j.Name() + "@" + strconv.Itoa(quality)
	}
	return j.Name()
}

func renditionKey(k files.Key) string {
	sum := sha256.Sum256([]byte(k.Name))
	return "picture/" + k.Hash + "-" + hex.EncodeToString(sum[:12])
}

// Picture returns a picture made of bytes: one that is kept, or else it is made, once on all
// nodes. Where the format is left to the reader, accept says which ones it takes. Its error is a
// *Problem, rendering.ErrBusy or a context's.
func (s *Service) Picture(
	ctx context.Context,
	b files.Blob,
	j picture.Job,
	quality int,
	accept string,
) (Rendition, error) {
	later := false
	if j.Format == picture.AutoFormat {
		j.Format = s.format(MediaType(b), accept, s.renderer.Formats())
		if j.Format == "avif" && number(b.Facts, "frames") > 1 {
			j.Format = "webp" // moving ones are made in WebP alone
		}
		if j.Format == "avif" {
			// That takes long: until it is there, they get one that is made quickly.
			k := files.Key{Hash: b.Hash, Name: renditionName(j, quality)}
			if !s.isMade(k) {
				s.makeLater(b, j, quality, k)
				j.Format, later = s.format(
					MediaType(b),
					strings.ReplaceAll(accept, "image/avif", ""),
					s.renderer.Formats(),
				), true
			}
		}
	}
	k := files.Key{Hash: b.Hash, Name: renditionName(j, quality)}
	for range 2 {
		x, err := s.have(ctx, b, j, quality, k)
		if err != nil {
			return Rendition{}, err
		}
		r, item, err := s.blobs.Open(ctx, renditionKey(k))
		if errors.Is(err, blob.ErrNotFound) {
			// Somebody has taken it away behind our back: it is made again.
			s.mu.Lock()
			delete(s.made, k)
			s.mu.Unlock()
			if err := s.store.GiveUp(ctx, k.Hash, k.Name); err != nil {
				return Rendition{}, err
			}
			continue
		}
		if err != nil {
			return Rendition{}, err
		}
		sum := sha256.Sum256([]byte(k.Hash + " " + k.Name))
		return Rendition{r, item, x.MediaType, hex.EncodeToString(sum[:12]), later}, nil
	}
	return Rendition{}, fmt.Errorf("the picture %s is not kept", k.Name)
}

// format is the best format that a reader takes.
func (s *Service) format(source, accept string, formats []string) string {
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

func (s *Service) isMade(k files.Key) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, ok := s.made[k]
	return ok
}

// mostLate bounds the pictures that are made in the background; what is too much is made when it is
// asked for again.
const mostLate = 100

// late is a picture that nobody waits for.
type late struct {
	blob    files.Blob
	job     picture.Job
	quality int
	key     files.Key
}

// makeLater has a picture made that nobody waits for.
func (s *Service) makeLater(b files.Blob, j picture.Job, quality int, k files.Key) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.lateAVIF[k] {
		return
	}
	select {
	case s.late <- late{b, j, quality, k}:
		s.lateAVIF[k] = true
	default:
	}
}

// lateLoop makes one such picture after the other, so that those who wait are served first.
func (s *Service) lateLoop(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case l := <-s.late:
			if _, err := s.have(ctx, l.blob, l.job, l.quality, l.key); err != nil && !isGone(err) {
				s.log.Debug("a picture was not made in the background", "picture", l.key.Name, "error", err)
			}
			s.mu.Lock()
			delete(s.lateAVIF, l.key)
			s.mu.Unlock()
		}
	}
}

// have sees to it that a picture is kept.
func (s *Service) have(
	ctx context.Context,
	b files.Blob,
	j picture.Job,
	quality int,
	k files.Key,
) (files.Rendition, error) {
	s.mu.Lock()
	x, ok := s.made[k]
	if ok && len(s.used) < mostKnown {
		s.used[k] = true
	}
	s.mu.Unlock()
	if ok {
		return x, nil
	}
	out := s.making.DoChan(k.Hash+" "+k.Name, func() (any, error) {
		// Who asked first may go; the others still wait.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), claimFor)
		defer cancel()
		return s.claim(ctx, b, j, quality, k)
	})
	select {
	case <-ctx.Done():
		return x, ctx.Err()
	case made := <-out:
		if made.Err != nil {
			return x, made.Err
		}
		return made.Val.(files.Rendition), nil
	}
}

// claim makes a picture, or waits until another node has made it.
func (s *Service) claim(
	ctx context.Context,
	b files.Blob,
	j picture.Job,
	quality int,
	k files.Key,
) (files.Rendition, error) {
	for {
		x, c, err := s.store.Claim(ctx, k.Hash, k.Name, claimFor)
		if err != nil {
			return x, err
		}
		switch c {
		case files.Mine:
			if x, err = s.render(ctx, b, j, quality, k); err != nil {
				return x, err
			}
			s.remember(k, x)
			return x, nil
		case files.Settled:
			if x.Problem != "" {
				return x, &Problem{Kind: "broken-file", Reason: "no picture can be made of the file: " + x.Problem}
			}
			s.remember(k, x)
			return x, nil
		}
		if !background.Sleep(ctx, waitEvery, nil) {
			return x, rendering.ErrBusy
		}
	}
}

func (s *Service) remember(k files.Key, x files.Rendition) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.made) >= mostKnown {
		clear(s.made)
	}
	s.made[k] = x
}

// render makes a picture and keeps it.
func (s *Service) render(
	ctx context.Context,
	b files.Blob,
	j picture.Job,
	quality int,
	k files.Key,
) (files.Rendition, error) {
	x := files.Rendition{MediaType: picture.Formats[j.Format], Made: true}
	settled := context.WithoutCancel(ctx)
	who, _ := ctx.Value(principalKey{}).(string)
	leave, err := s.turns.Enter(ctx, who, false)
	if err != nil {
		return x, errors.Join(err, s.store.GiveUp(settled, k.Hash, k.Name))
	}
	defer leave()
	path, done, err := s.blobs.Local(ctx, originalKey(b.Hash))
	if err == nil {
		defer done()
		out := filepath.Join(s.blobs.Temporary(), "made-"+content.NewID())
		if err = s.renderer.Make(ctx, path, looked(b), j, quality, out); err == nil {
			if info, statErr := os.Stat(out); statErr == nil {
				x.Bytes = info.Size()
			}
			err = s.blobs.Put(ctx, renditionKey(k), out)
			if err == nil {
				return x, s.store.Finish(settled, k.Hash, k.Name, x)
			}
			_ = os.Remove(out)
		}
	}
	var broken *rendering.BrokenError
	if errors.As(err, &broken) {
		x.Problem = broken.Reason
		return x, errors.Join(s.store.Finish(settled, k.Hash, k.Name, x),
			&Problem{Kind: "broken-file", Reason: "no picture can be made of the file: " + broken.Reason})
	}
	return x, errors.Join(err, s.store.GiveUp(settled, k.Hash, k.Name))
}
