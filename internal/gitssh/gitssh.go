// Package gitssh talks to git repositories over SSH (RFC 4251 and following): it fetches, and does nothing
// else. Hosts are known by their keys.
package gitssh

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/go-git/go-git/v5/plumbing/format/pktline"
	"github.com/go-git/go-git/v5/plumbing/protocol/packp"
	"golang.org/x/crypto/ssh"
)

// mostRefs bounds what a host may say of the branches that it has, in bytes.
const mostRefs = 32 << 20

// timeout bounds how long it takes to reach a host and prove who we are.
const timeout = 20 * time.Second

// Access is what a host is reached with.
type Access struct {
	// User is who we are there, unless the address says it; "git" without either.
	User string
	// Key is a private key without a passphrase, as ssh-keygen writes it; without it Password counts.
	Key, Password string
	// Host is the public key that the host must have, in the form of ssh-keyscan without the name.
	Host string
}

// Session is one connection to a repository. It is not safe for concurrent use.
type Session struct {
	client *ssh.Client
	shell  *ssh.Session
	in     io.WriteCloser
	out    io.Reader
	says   *firstBytes
	path   string
}

// Address reads the address of a repository, ssh://user@host:port/path; is tells whether it is one.
func Address(text string) (u *url.URL, is bool) {
	u, err := url.Parse(text)
	return u, err == nil && u.Scheme == "ssh" && u.Host != ""
}

// Check returns everything that is wrong with the access, which is to the address, a line each.
func (a *Access) Check(u *url.URL) (wrong []string) {
	if _, has := u.User.Password(); has {
		wrong = append(wrong, "address: credentials do not belong into an address; see key and token")
	}
	if _, _, _, _, err := ssh.ParseAuthorizedKey([]byte(a.Host)); err != nil {
		wrong = append(wrong, "host is no public key; give that of "+u.Hostname()+
			" as ssh-keyscan shows it, without the name: ssh-ed25519 AAAA…")
	}
	if a.Key == "" && a.Password == "" {
		wrong = append(wrong, "key is missing: a private key, as a secret, whose public key the host knows")
	}
	return wrong
}

// Dial reaches the host of a repository by dial. The session ends with the context.
func Dial(
	ctx context.Context, dial func(ctx context.Context, network, address string) (net.Conn, error), u *url.URL, a Access,
) (*Session, error) {
	known, _, _, _, err := ssh.ParseAuthorizedKey([]byte(a.Host))
	if err != nil {
		return nil, errors.New("host is no public key of a host")
	}
	config := &ssh.ClientConfig{
		User: cmp.Or(u.User.Username(), a.User, "git"), HostKeyCallback: ssh.FixedHostKey(known),
		HostKeyAlgorithms: hostAlgorithms(known.Type()), Timeout: timeout,
	}
	if a.Key != "" {
		signer, err := ssh.ParsePrivateKey([]byte(a.Key))
		if err != nil {
			return nil, errors.New("key is no private key without a passphrase, as ssh-keygen writes it")
		}
		config.Auth = append(config.Auth, ssh.PublicKeys(signer))
	} else {
		config.Auth = append(config.Auth, ssh.Password(a.Password))
	}
	conn, err := dial(ctx, "tcp", net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "22")))
	if err != nil {
		return nil, err
	}
	if err := conn.SetDeadline(time.Now().Add(timeout)); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	opened, channels, requests, err := ssh.NewClientConn(conn, u.Host, config)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", u.Hostname(), err) // the connection is closed
	}
	s := &Session{client: ssh.NewClient(opened, channels, requests), path: u.Path, says: &firstBytes{}}
	if err := conn.SetDeadline(time.Time{}); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	context.AfterFunc(ctx, func() { _ = s.client.Close() })
	if s.shell, err = s.client.NewSession(); err == nil {
		s.shell.Stderr = s.says
		s.in, err = s.shell.StdinPipe()
	}
	if err == nil {
		s.out, err = s.shell.StdoutPipe()
	}
	if err == nil {
		err = s.shell.Start("git-upload-pack '" + strings.ReplaceAll(s.path, "'", `'\''`) + "'")
	}
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// hostAlgorithms are those by which a host may prove that it has a key of a kind.
func hostAlgorithms(kind string) []string {
	if kind == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{kind}
}

// AdvertisedReferencesContext returns what the repository offers.
func (s *Session) AdvertisedReferencesContext(context.Context) (*packp.AdvRefs, error) {
	offered := packp.NewAdvRefs()
	if err := offered.Decode(io.LimitReader(s.out, mostRefs)); err != nil {
		return nil, s.failed(err)
	}
	return offered, nil
}

// UploadPack asks for what the request names; its answer holds the pack.
func (s *Session) UploadPack(_ context.Context, ask *packp.UploadPackRequest) (*packp.UploadPackResponse, error) {
	if err := ask.UploadRequest.Encode(s.in); err != nil {
		return nil, s.failed(err)
	}
	if err := ask.UploadHaves.Encode(s.in, true); err != nil {
		return nil, s.failed(err)
	}
	if err := pktline.NewEncoder(s.in).Encodef("done\n"); err != nil {
		return nil, s.failed(err)
	}
	answer := packp.NewUploadPackResponse(ask)
	if err := answer.Decode(io.NopCloser(s.out)); err != nil {
		return nil, s.failed(err)
	}
	return answer, nil
}

// failed adds what the host said to an error.
func (s *Session) failed(err error) error {
	if text := s.says.String(); text != "" {
		return fmt.Errorf("%w: the host says: %s", err, text)
	}
	return err
}

// Close ends the session.
func (s *Session) Close() error {
	if err := s.client.Close(); err != nil && !errors.Is(err, net.ErrClosed) {
		return err
	}
	return nil
}

// firstBytes keeps the beginning of what a host says beside its answer. It is safe for concurrent use.
type firstBytes struct {
	mu   sync.Mutex
	text []byte
}

// Write implements io.Writer.
func (b *firstBytes) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.text = append(b.text, p[:min(len(p), 300-len(b.text))]...)
	return len(p), nil
}

// String is what was kept, in one line.
func (b *firstBytes) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return strings.Join(strings.Fields(strings.ToValidUTF8(string(b.text), "")), " ")
}
