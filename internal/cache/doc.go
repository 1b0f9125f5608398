// Package cache keeps responses until a change affects them. It never returns one that a change
// known to it has affected. Responses are kept within a bound of bytes, popular ones longest.
package cache
