package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"

	"ubiquon/internal/server"
	"ubiquon/internal/service"
	"ubiquon/internal/store/cluster"
)

// front hands reads of content to the nodes in turn, and everything else to the first:
// whoever looks into the console sees one node. A node that cannot be reached is passed
// over.
type front struct {
	nodes []*url.URL
	next  atomic.Uint64
}

// RoundTrip implements http.RoundTripper.
func (f *front) RoundTrip(r *http.Request) (*http.Response, error) {
	first := uint64(0)
	if strings.HasPrefix(r.URL.Path, "/content/") {
		first = f.next.Add(1)
	}
	// Whoever does not get through closes the body, of which nothing was read.
	body := r.Body
	for i := range uint64(len(f.nodes)) {
		node := f.nodes[(first+i)%uint64(len(f.nodes))]
		r.URL.Scheme, r.URL.Host = node.Scheme, node.Host
		if body != nil && body != http.NoBody {
			r.Body = &unread{Reader: body}
		}
		answer, err := http.DefaultTransport.RoundTrip(r)
		var away *net.OpError
		if err == nil || !errors.As(err, &away) || away.Op != "dial" {
			return answer, err
		}
	}
	return nil, errors.New("no node can be reached")
}

// unread is a body that can be sent again as long as nothing of it was read: closing it
// does nothing.
type unread struct{ io.Reader }

// Close stops serving.
func (unread) Close() error { return nil }

// startNodes starts further nodes on the database of the first, and the front before
// all of them.
func (d *Demo) startNodes(ctx context.Context, o Options, base service.Options, listener net.Listener) error {
	database, err := cluster.RunningURL(o.Data)
	if err != nil {
		return err
	}
	f := &front{}
	for n := range o.Nodes {
		s := d.service
		if n > 0 {
			inner, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				return err
			}
			own := base
			own.Database, own.Listener, own.Name = database, inner, fmt.Sprintf("node %d", n+1)
			if s, err = service.Open(ctx, own); err != nil {
				return err
			}
			d.nodes = append(d.nodes, s)
			if err := s.Start(ctx); err != nil {
				return err
			}
		}
		u, err := url.Parse(s.Address)
		if err != nil {
			return err
		}
		f.nodes = append(f.nodes, u)
		d.Connection.Nodes = append(d.Connection.Nodes, s.Address)
	}
	d.front = server.Listening(
		&httputil.ReverseProxy{Transport: f, FlushInterval: -1, Rewrite: func(r *httputil.ProxyRequest) {
			r.Out.Host = r.In.Host
			r.SetXForwarded()
		}},
	)
	d.front.WriteTimeout = 0 // streams pass through here
	go func() {
		if err := d.front.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
			d.failed <- err
		}
	}()
	return nil
}
