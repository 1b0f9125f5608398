// Package mailer sends mail by SMTP (RFC 5321), through a connection that the guarded dialer
// makes. It knows nothing of who is told what.
package mailer

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"
)

// Server is where mail is handed in.
type Server struct {
	// Address is host:port.
	Address string
	// From is who mail comes from.
	From string
	// TLS is starttls, tls or none; empty means starttls.
	TLS            string
	User, Password string
}

// Message is a mail in plain text to one address.
type Message struct {
	// ID is the same for every try of the same message.
	ID, To, Subject, Text string
}

// timeout bounds the sending of one message.
const timeout = 20 * time.Second

// PermanentError is the error of a message that no try will get through.
type PermanentError struct{ Err error }

// Error implements error.
func (e *PermanentError) Error() string { return e.Err.Error() }

// Unwrap returns the error itself.
func (e *PermanentError) Unwrap() error { return e.Err }

// Dial makes connections.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// Send hands a message in. Its error is a *PermanentError where the server refuses it for good,
// or it cannot be sent at all.
func Send(ctx context.Context, s Server, dial Dial, m Message) error {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	msg := mail.NewMsg()
	for _, err := range []error{msg.From(s.From), msg.To(m.To)} {
		if err != nil {
			return &PermanentError{err}
		}
	}
	// A subject is one line.
	msg.Subject(strings.Join(strings.Fields(m.Subject), " "))
	msg.SetBodyString(mail.TypeTextPlain, m.Text)
	msg.SetMessageIDWithValue(m.ID)
	msg.SetDate()
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834
	client, err := s.client(dial)
	if err != nil {
		return &PermanentError{err}
	}
	err = client.DialAndSendWithContext(ctx, msg)
	var refused *mail.SendError
	if errors.As(err, &refused) && !refused.IsTemp() && refused.ErrorCode() >= 500 {
		return &PermanentError{err}
	}
	return err
}

// Check signs in to the server and leaves again.
func Check(ctx context.Context, s Server, dial Dial) error {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	client, err := s.client(dial)
	if err != nil {
		return err
	}
	if err := client.DialWithContext(ctx); err != nil {
		return err
	}
	return client.Close()
}

func (s Server) client(dial Dial) (*mail.Client, error) {
	host, port, err := net.SplitHostPort(s.Address)
	if err != nil {
		return nil, fmt.Errorf("the mail server %q is not host:port", s.Address)
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("the mail server %q is not host:port", s.Address)
	}
	secured := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	options := []mail.Option{mail.WithPort(n), mail.WithTimeout(timeout), mail.WithTLSConfig(secured)}
	switch s.TLS {
	case "", "starttls":
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	case "none":
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	case "tls":
		plain := dial
		dial = func(ctx context.Context, network, address string) (net.Conn, error) {
			conn, err := plain(ctx, network, address)
			if err != nil {
				return nil, err
			}
			secure := tls.Client(conn, secured)
			if err := secure.HandshakeContext(ctx); err != nil {
				conn.Close()
				return nil, err
			}
			return secure, nil
		}
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	}
	if s.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(s.User),
			mail.WithPassword(s.Password))
		if s.TLS == "none" {
			return nil, errors.New("a password is not sent without TLS; set tls to starttls or tls")
		}
	}
	options = append(options, mail.WithDialContextFunc(mail.DialContextFunc(dial)))
	return mail.NewClient(host, options...)
}
