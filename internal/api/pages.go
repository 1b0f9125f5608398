package api

import (
	"time"

	"ubiquon/internal/core/rebuild"
)

// PageFilter narrows ListPages.
type PageFilter struct {
	// Site whose pages they are; it must be given.
	Site string `query:"site" json:"-"`
	// Entry that the pages show something of.
	Entry string `query:"entry" json:"-"`
	// Stale: only pages that are, or that are not.
	Stale *bool `query:"stale" json:"-"`
	// Page is the path of the one that is asked for.
	Page string `query:"page" json:"-"`
	// After is the path that the one before ended with.
	After string `query:"after" json:"-"`
	// Limit is 100 if it is not given, and at most 1000.
	Limit int `query:"limit" json:"-"`
}

// SitePage is a page of a site, as its ledger knows it.
type SitePage struct {
	Page string `json:"page"` // the path at which the site serves it
	// Reads are the requests that it is made of: below the edition, where that is the published
	// one.
	Reads []string `json:"reads"`
	// StaleSince is the change by which one of its reads gives other bytes now than it got; null: it
	// is as it should be.
	StaleSince *int64          `json:"staleSince"`
	StaleAt    *time.Time      `json:"staleAt"`
	Causes     []rebuild.Cause `json:"causes"`
	// Gone says that what it showed is not there any more.
	Gone bool `json:"gone,omitempty"`
	// OnDemand tells a page that is rendered on demand from one that is built.
	OnDemand bool `json:"onDemand,omitempty"`
	// Registered is when it last said what it reads.
	Registered time.Time `json:"registered"`
	// Told is the change up to which the site was told that it is stale, Attempts how often in vain
	// since, and Failed why.
	Told     int64  `json:"told,omitempty"`
	Attempts int    `json:"attempts,omitempty"`
	Failed   string `json:"failed,omitempty"`
	// Hits is about how often the answers that it is made of were served of late; what is asked for
	// most is looked after first.
	Hits int64 `json:"hits,omitempty"`
}

// PageLedger is how much is known of the pages of a site.
type PageLedger struct {
	// Position is the change up to which it is known which pages are stale.
	Position int64 `json:"position"`
	Pages    int   `json:"pages"`
	Stale    int   `json:"stale"`
	// Reads counts the requests that its pages are made of, each once.
	Reads int `json:"reads"`
	// Structure says that what builds read for no page gives other bytes now: the site is stale as a
	// whole.
	Structure bool `json:"structure"`
	// Unjudged counts what was registered, and builds that have ended, of which it is not known yet
	// what they make stale; it is 0 within a moment.
	Unjudged int64 `json:"unjudged"`
	// Lost is the change since which all of the site counts as stale, until it is rendered again: what
	// its pages have read may be missing, or there are more than are known one by one, or an older copy of the
	// content was restored.
	Lost *int64 `json:"lost"`
	// WholeTypes are those of which every change makes the site stale as a whole: it has more pages, or
	// requests, than are known one by one, and these types are read by the others. "" stands for all.
	WholeTypes []string `json:"wholeTypes,omitempty"`
}

// PageCheckRequest asks for a check of the ledger of a site.
type PageCheckRequest struct {
	Site string `json:"site"`
}

// PageCheck is what a check of a ledger found.
type PageCheck struct {
	// Reads counts the requests that were made again.
	Reads int `json:"reads"`
	// Wrong are those that give something else than the ledger says; there should be none.
	Wrong []WrongRead `json:"wrong"`
	// Unchecked counts those beyond what one check makes.
	Unchecked int `json:"unchecked,omitempty"`
}

// WrongRead is a request of which the ledger does not know what it gives.
type WrongRead struct {
	Request string `json:"request"`
	// Known and Is name the bytes: the status and the entity tag.
	Known string `json:"known"`
	Is    string `json:"is"`
}

// Manifest is the answer to what a builder has said of its pages.
type Manifest struct {
	Pages int `json:"pages"`
	Reads int `json:"reads"`
	// Unknown counts the reads of which it is not known what the builder got: content has changed
	// since. Their pages count as stale.
	Unknown int `json:"unknown"`
}

// AffectedPages are the pages of a site that a change may make stale.
type AffectedPages struct {
	Site string `json:"site"`
	// Pages are their paths, a thousand at most; none: no page shows anything of it.
	Pages []string `json:"pages"`
	// Whole says that the structure of the site is affected, so that all of it would be stale.
	Whole bool `json:"whole"`
	// Elsewhere says that another node keeps the ledger of the site, and that it is not known here.
	Elsewhere bool `json:"elsewhere,omitempty"`
}

// SitePages are pages of a site, by path.
type SitePages struct {
	Items  []SitePage `json:"items"`
	Ledger PageLedger `json:"ledger"`
	// Next is what to give as after for those that follow; "": there are none.
	Next string `json:"next,omitempty"`
}
