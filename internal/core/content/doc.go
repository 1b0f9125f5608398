// Package content validates what editors write and renders the documents that readers get, one for
// each edition and locale. It does not store anything; changes between documents are described by
// Change.
package content
