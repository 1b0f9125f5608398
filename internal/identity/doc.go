// Package identity knows who asks: keys, tokens of an issuer, accounts with sessions,
// preview links, and what is open to everyone. It also keeps the audit log. What somebody
// may do with their rights is decided in core/access.
package identity
