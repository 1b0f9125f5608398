// Package why answers one question: why can this reader not see this entry?
// It is given all there is to know, and returns every reason that holds at the
// moment, the most fundamental first, each with what mends it.
package why
