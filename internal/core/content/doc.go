// Package content turns what people write into what readers get: it validates
// an entry's fields against the model, lays out one document per locale with
// fallbacks filled in, and says what differs between two states of an entry.
package content
