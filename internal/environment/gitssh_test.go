package environment_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"ubiquon/internal/testkit"
)

// sshKey makes a key, and returns it as ssh-keygen writes it, too.
func sshKey(t *testing.T) (ssh.Signer, string) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		t.Fatal(err)
	}
	return signer, string(pem.EncodeToMemory(block))
}

// serveSSH has git serve the repositories below a directory over SSH, to whoever has the key.
func serveSSH(t *testing.T, root string, host ssh.Signer, allowed ssh.PublicKey) string {
	t.Helper()
	config := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if string(key.Marshal()) != string(allowed.Marshal()) {
			return nil, os.ErrPermission
		}
		return &ssh.Permissions{}, nil
	}}
	config.AddHostKey(host)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go serveOneSSH(conn, config, root)
		}
	}()
	return l.Addr().String()
}

func serveOneSSH(conn net.Conn, config *ssh.ServerConfig, root string) {
	defer conn.Close()
	_, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for opened := range channels {
		channel, requests, err := opened.Accept()
		if err != nil {
			return
		}
		for r := range requests {
			_ = r.Reply(r.Type == "exec", nil)
			if r.Type != "exec" {
				continue
			}
			var command struct{ Text string }
			if ssh.Unmarshal(r.Payload, &command) != nil {
				return
			}
			name, path, _ := strings.Cut(command.Text, " ")
			c := exec.Command(name, filepath.Join(root, strings.Trim(path, "'")))
			c.Stdout, c.Stderr = channel, channel.Stderr()
			in, err := c.StdinPipe()
			if err != nil || c.Start() != nil {
				return
			}
			go func() {
				_, _ = io.Copy(in, channel)
				in.Close()
			}()
			_ = c.Wait()
			_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{0}))
			channel.Close()
			break
		}
	}
}

// TestRepositoryOverSSH reads a branch from git itself behind SSH, and no host that has another key.
func TestRepositoryOverSSH(t *testing.T) {
	r := newRepository(t)
	write(t, r.dir, "notices/one.md", "---\ntitle: One\n---\n")
	r.commit(t, "First")
	host, _ := sshKey(t)
	other, _ := sshKey(t)
	own, private := sshKey(t)
	address := serveSSH(t, filepath.Dir(r.dir), host, own.PublicKey())
	text := func(s string) string {
		src, err := json.Marshal(strings.TrimSpace(s))
		if err != nil {
			t.Fatal(err)
		}
		return string(src)
	}
	origins := func(key ssh.Signer, path string) string {
		return "origins:\n  tides:\n    every: 1s\n    pull: {git: {address: \"ssh://git@" + address + path +
			"\", host: " + text(string(ssh.MarshalAuthorizedKey(key.PublicKey()))) + ", key: " + text(private) + "}}" +
			mappedFiles
	}
	n := reading(t, nil, origins(host, "/tides.git"))
	n.reads(t, "notices/one?fields=title", 200, "One")
	write(t, r.dir, "notices/one.md", "---\ntitle: One, changed\n---\n")
	r.commit(t, "Second")
	n.reads(t, "notices/one?fields=title", 200, "One, changed")
	for _, wrong := range []struct {
		key        ssh.Signer
		path, want string
	}{{other, "/tides.git", "key mismatch"}, {host, "/nothing.git", "does not appear to be a git repository"}} {
		n := reading(t, nil, origins(wrong.key, wrong.path))
		testkit.Eventually(t, "the origin is told to fail", func() bool {
			all, err := n.client.Origins().List(t.Context())
			return err == nil && len(all) == 1 && strings.Contains(all[0].Error, wrong.want)
		})
	}
}
