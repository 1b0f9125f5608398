package api

import (
	"net/http"
	"time"

	"ubiquon/internal/core/content"
)

// File is a file of the library as it is uploaded and listed.
type File struct {
	ID string `json:"id"`
	// URL is the address of the file, Image its base address in the IIIF Image API 3.0; "" if it is
	// no picture.
	URL   string `json:"url"`
	Image string `json:"image,omitempty"`
	Name  string `json:"name"`
	// MediaType is that of the bytes, whatever the name says.
	MediaType string `json:"mediaType"`
	Bytes     int64  `json:"bytes"`
	// Width and Height in pixels, as a picture is seen upright.
	Width  int `json:"width,omitempty"`
	Height int `json:"height,omitempty"`
	// Hash is the SHA-256 of the bytes.
	Hash string `json:"hash"`
	// Published: readers can see it. Until then addresses are signed, and end some day.
	Published bool `json:"published"`
	// Preview is an address of the picture 320 pixels wide.
	Preview     string `json:"preview,omitempty"`
	Color       string `json:"color,omitempty"`
	Placeholder string `json:"placeholder,omitempty"`
	// Description in the form of the fields of files: alt, decorative, caption, credit, tags, focus.
	Description content.Fields `json:"description"`
	Revision    int            `json:"revision"`
	Updated     time.Time      `json:"updated"`
	// Sequence is that of the change; 0 when no reader could see a difference.
	Sequence int64 `json:"sequence,omitempty"`
}

// UploadedFile is a file that was just taken in.
type UploadedFile struct {
	File
}

// StatusCode is 201.
func (UploadedFile) StatusCode() int { return http.StatusCreated }

// FileDetail is a file with where it is shown.
type FileDetail struct {
	File
	// UsedBy lists up to 200 entries that show it.
	UsedBy []Referrer `json:"usedBy"`
}

// FileRecord is a file as it is stored.
type FileRecord struct {
	ID                          string
	Revision, PublishedRevision int
	Behind                      bool
	Updated                     time.Time
	Fields                      content.Fields
}

// FileFilter says which files are listed.
type FileFilter struct {
	// Search in name, descriptions and tags.
	Search string `query:"search" json:"-"`
	// Type is a media type, as in image/png or image/*.
	Type string `query:"type" json:"-"`
	Tag  string `query:"tag" json:"-"`
	// Use is used or unused.
	Use string `query:"use" json:"-" enum:"used,unused"`
	// Undescribed pictures have no alt text, and are not declared decorative.
	Undescribed bool `query:"undescribed" json:"-"`
	// Sort by updated, name or bytes, descending with a minus before it; the default is -updated.
	Sort   string `query:"sort" json:"-" enum:"updated,-updated,name,-name,bytes,-bytes"`
	Limit  int    `query:"limit" json:"-"`
	Offset int    `query:"offset" json:"-"`
}

// FileList is a page of files.
type FileList struct {
	Items []File `json:"items"`
	Total int    `json:"total"`
}

// FileUpload says what is uploaded; the bytes are the body.
type FileUpload struct {
	// Name as in harbour.png; of a path the last part.
	Name string `query:"name" json:"-"`
	// Publish shows it to readers at once; else it is published with the first entry that shows it.
	Publish bool `query:"publish" json:"-"`
	// Alt describes a picture in the default locale.
	Alt string `query:"alt" json:"-"`
}

// FileReplacement says which file gets other bytes; the bytes are the body.
type FileReplacement struct {
	ID string `path:"id" json:"-"`
	// Name replaces the file's name, too, if it is given.
	Name string `query:"name" json:"-"`
	// Publish shows the new bytes to readers at once; else they are a draft.
	Publish bool `query:"publish" json:"-"`
}

// FileFetch is a file that the service fetches itself.
type FileFetch struct {
	// Address to fetch, http or https. Addresses within the network are refused unless they are
	// allowed (outbound.allow).
	Address string `json:"address"`
	// Name as in harbour.png; without one the last part of the address.
	Name    string `json:"name,omitempty"`
	Publish bool   `json:"publish,omitempty"`
}

// FileID names a file.
type FileID struct {
	ID string `path:"id" json:"-"`
}

// FileCheckOptions say how thorough a check is.
type FileCheckOptions struct {
	// Hashes reads all bytes and compares their hashes.
	Hashes bool `json:"hashes,omitempty"`
	// Collect removes what nobody uses and nobody has used for the grace period.
	Collect bool `json:"collect,omitempty"`
}

// FileCheck is the outcome, and the progress, of a check.
type FileCheck struct {
	Checked int   `json:"checked"`
	Bytes   int64 `json:"bytes"`
	// Missing bytes are noted and not kept, Damaged ones are others than they were, Orphans are kept
	// and not noted. Up to 100 of each, by hash.
	Missing []string `json:"missing"`
	Damaged []string `json:"damaged"`
	Orphans []string `json:"orphans"`
	// Collected counts what was removed.
	Collected int `json:"collected"`
	// Renderer says by what pictures are made.
	Renderer string `json:"renderer"`
	Done     bool   `json:"done,omitempty"`
}
