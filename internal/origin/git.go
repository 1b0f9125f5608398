package origin

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/format/packfile"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/protocol/packp"
	"github.com/go-git/go-git/v5/plumbing/protocol/packp/capability"
	"github.com/go-git/go-git/v5/plumbing/protocol/packp/sideband"
	"github.com/go-git/go-git/v5/plumbing/transport"
	githttp "github.com/go-git/go-git/v5/plumbing/transport/http"

	"ubiquon/internal/gitssh"
)

// repository is a branch of a repository whose files are items.
type repository struct {
	*files
	config Git
	with   Reading
	copy   string // the directory of our copy; empty where the repository lies in a folder here
	// fetching is held by who fetches; fetched counts.
	fetching sync.Mutex
	fetched  int
}

// CopyOf is where the copy of an origin's repository is, below the working directory.
func CopyOf(work, name string) string { return filepath.Join(work, "git", name) }

func newGit(s *Source, with Reading) (reader, error) {
	r := &repository{config: *s.Config.Pull.Git, with: with}
	if strings.Contains(r.config.Address, "://") {
		r.copy = CopyOf(with.Work, s.Name)
	}
	r.files = &files{s: s, address: r.config.Address, open: r.snapshot, keys: map[string]map[string]string{}}
	return r, nil
}

// commit is what a commit has.
type commit struct {
	repo  *git.Repository
	when  time.Time
	found map[string]string // the hash of each file
}

func (c *commit) stamps() map[string]string { return c.found }

func (c *commit) read(file string, most int64) ([]byte, time.Time, error) {
	hash, is := c.found[file]
	if !is {
		return nil, time.Time{}, ErrGone
	}
	blob, err := c.repo.BlobObject(plumbing.NewHash(hash))
	if errors.Is(err, plumbing.ErrObjectNotFound) {
		return nil, time.Time{}, fmt.Errorf("it has more than %d MiB, and was not fetched", biggestPicture>>20)
	}
	if err != nil {
		return nil, time.Time{}, err
	}
	if blob.Size > most {
		return nil, time.Time{}, fmt.Errorf("it has %d bytes, at most %d are read", blob.Size, most)
	}
	in, err := blob.Reader()
	if err != nil {
		return nil, time.Time{}, err
	}
	defer in.Close()
	src, err := readMost(in, most)
	return src, c.when, err
}

// gitTimeout bounds one fetch.
const gitTimeout = 10 * time.Minute

// snapshot fetches the branch, and lists what its newest commit has. A history that was rewritten is
// taken as it is now. Links and other repositories within are left out.
func (r *repository) snapshot(ctx context.Context) (t tree, mark, text string, err error) {
	ctx, cancel := context.WithTimeout(ctx, gitTimeout)
	defer cancel()
	r.fetching.Lock()
	repo, head, err := r.fetch(ctx)
	r.fetching.Unlock()
	if err != nil {
		return nil, "", "", fmt.Errorf("the repository %s: %w", r.config.Address, err)
	}
	newest, err := repo.CommitObject(head)
	if err != nil {
		return nil, "", "", err
	}
	root, err := newest.Tree()
	if err == nil && r.config.Below != "" {
		root, err = root.Tree(path.Clean(r.config.Below))
	}
	if errors.Is(err, object.ErrDirectoryNotFound) {
		err = fmt.Errorf("the repository %s has no directory %s", r.config.Address, r.config.Below)
	}
	if err != nil {
		return nil, "", "", err
	}
	c := &commit{repo, newest.Committer.When, map[string]string{}}
	walk := object.NewTreeWalker(root, true, nil)
	defer walk.Close()
	for {
		name, entry, err := walk.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, "", "", err
		}
		if entry.Mode != filemode.Regular && entry.Mode != filemode.Executable && entry.Mode != filemode.Deprecated ||
			strings.HasPrefix(name, ".") || strings.Contains(name, "/.") {
			continue
		}
		if c.found[name] = entry.Hash.String(); len(c.found) > maxFiles {
			return nil, "", "", fmt.Errorf("the repository %s has more than %d files", r.config.Address, maxFiles)
		}
	}
	subject, _, _ := strings.Cut(strings.TrimSpace(newest.Message), "\n")
	return c, head.String()[:10], fmt.Sprintf("%.200s (%.100s)", subject, newest.Author.Name), nil
}

// fetch brings our copy up to date, or opens the repository where it lies.
func (r *repository) fetch(ctx context.Context) (*git.Repository, plumbing.Hash, error) {
	if r.copy == "" {
		dir, err := within(r.config.Address, r.with.Folders)
		if err != nil {
			return nil, plumbing.ZeroHash, err
		}
		repo, err := git.PlainOpen(dir)
		if err != nil {
			return nil, plumbing.ZeroHash, err
		}
		name := plumbing.HEAD
		if r.config.Branch != "" {
			name = plumbing.NewBranchReferenceName(r.config.Branch)
		}
		ref, err := repo.Reference(name, true)
		if err != nil {
			return nil, plumbing.ZeroHash, r.noBranch(err)
		}
		return repo, ref.Hash(), nil
	}
	repo, err := git.PlainOpen(r.copy)
	if errors.Is(err, git.ErrRepositoryNotExists) {
		if err = os.MkdirAll(r.copy, 0o700); err == nil {
			repo, err = git.PlainInit(r.copy, true)
		}
	}
	if err != nil {
		return nil, plumbing.ZeroHash, err
	}
	return r.fetchInto(ctx, repo)
}

const (
	// ours is where the branch is kept in our copy.
	ours = plumbing.ReferenceName("refs/heads/read")
	// mostPacks is how many fetches a copy has before it is made anew.
	mostPacks = 500
)

// session is what a repository is fetched over.
type session interface {
	AdvertisedReferencesContext(ctx context.Context) (*packp.AdvRefs, error)
	UploadPack(ctx context.Context, ask *packp.UploadPackRequest) (*packp.UploadPackResponse, error)
	Close() error
}

// access is what a host is reached with over SSH.
func (g *Git) access() gitssh.Access {
	return gitssh.Access{User: g.User, Key: g.Key, Password: g.Token, Host: g.Host}
}

// session begins to talk to the repository's host, over SSH or HTTP.
func (r *repository) session(ctx context.Context) (session, error) {
	if u, is := gitssh.Address(r.config.Address); is {
		return gitssh.Dial(ctx, r.with.Dial, u, r.config.access())
	}
	endpoint, err := transport.NewEndpoint(r.config.Address)
	if err != nil {
		return nil, err
	}
	var auth transport.AuthMethod
	if r.config.Token != "" {
		auth = &githttp.BasicAuth{Username: cmp.Or(r.config.User, "git"), Password: r.config.Token}
	}
	return githttp.NewClient(r.with.Long).NewUploadPackSession(endpoint, auth)
}

// fetchInto fetches the newest commit of the branch into our copy, through the guarded client. Files that
// are too large to be read are left with the server, if it can do that.
func (r *repository) fetchInto(ctx context.Context, repo *git.Repository) (*git.Repository, plumbing.Hash, error) {
	none := plumbing.ZeroHash
	session, err := r.session(ctx)
	if err != nil {
		return nil, none, err
	}
	defer session.Close()
	offered, err := session.AdvertisedReferencesContext(ctx)
	if err != nil {
		return nil, none, err
	}
	head, is := offered.References[plumbing.NewBranchReferenceName(r.config.Branch).String()]
	if r.config.Branch == "" && offered.Head != nil {
		head, is = *offered.Head, true
	}
	if !is {
		return nil, none, r.noBranch(plumbing.ErrReferenceNotFound)
	}
	was, err := repo.Reference(ours, true)
	if err == nil && was.Hash() == head {
		return repo, head, nil
	}
	ask := packp.NewUploadPackRequestFromCapabilities(offered.Capabilities)
	ask.Wants = []plumbing.Hash{head}
	if was != nil {
		ask.Haves = []plumbing.Hash{was.Hash()}
	}
	if ask.Shallows, err = repo.Storer.Shallow(); err != nil {
		return nil, none, err
	}
	if offered.Capabilities.Supports(capability.Shallow) {
		ask.Depth = packp.DepthCommits(1)
		if err := ask.Capabilities.Set(capability.Shallow); err != nil {
			return nil, none, err
		}
	}
	if offered.Capabilities.Supports(capability.Filter) {
		ask.Filter = packp.FilterBlobLimit(biggestPicture, packp.BlobLimitPrefixNone)
		if err := ask.Capabilities.Set(capability.Filter); err != nil {
			return nil, none, err
		}
	}
	answer, err := session.UploadPack(ctx, ask)
	if err != nil {
		return nil, none, err
	}
	defer answer.Close()
	var pack io.Reader = answer
	switch {
	case ask.Capabilities.Supports(capability.Sideband64k):
		pack = sideband.NewDemuxer(sideband.Sideband64k, answer)
	case ask.Capabilities.Supports(capability.Sideband):
		pack = sideband.NewDemuxer(sideband.Sideband, answer)
	}
	if err := packfile.UpdateObjectStorage(repo.Storer, &bounded{pack, maxPack}); err != nil {
		return nil, none, err
	}
	if err := repo.Storer.SetShallow([]plumbing.Hash{head}); err != nil {
		return nil, none, err
	}
	if err := repo.Storer.SetReference(plumbing.NewHashReference(ours, head)); err != nil {
		return nil, none, err
	}
	r.fetched++
	if r.fetched > mostPacks {
		// What was fetched bit by bit is fetched as a whole the next time.
		r.fetched = 0
		return repo, head, os.RemoveAll(r.copy)
	}
	return repo, head, nil
}

// maxPack bounds what is fetched at once, and biggestPicture a file that is fetched at all.
const (
	maxPack        = 1 << 30
	biggestPicture = 64 << 20
)

// bounded ends with an error after so many bytes.
type bounded struct {
	io.Reader
	left int64
}

// Read implements io.Reader.
func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return n, fmt.Errorf("it sends more than %d MiB at once", maxPack>>20)
	}
	return n, err
}

// noBranch says so where a branch is not there.
func (r *repository) noBranch(err error) error {
	if errors.Is(err, plumbing.ErrReferenceNotFound) {
		return fmt.Errorf("there is no branch %s", cmp.Or(r.config.Branch, "that it calls its own"))
	}
	return err
}
