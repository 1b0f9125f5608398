package api

import "ubiquon/internal/core/model"

// Consequence is a difference between two models with what it does to the
// entries that are there.
type Consequence struct {
	model.Difference
	// Entries that lose something, or that lack what they need.
	Entries int `json:"entries"`
}

// Consequence is a difference between two models with what it does to entries
// and to those who read them.
type PlannedConsequence struct {
	Consequence
	// Readers are the keys, and the sites behind them, that may read what goes or
	// is renamed.
	Readers []string `json:"readers"`
}

// ModelPlan is what applying a model would do.
type ModelPlan struct {
	// Version of the present model.
	Version int64 `json:"version"`
	// Consequences, the worst first; none when the model is the present one.
	Consequences []PlannedConsequence `json:"consequences"`
	// Loses is true when content would be lost.
	Loses bool `json:"loses"`
	// Model and YAML are the model as it would be.
	Model *model.Model `json:"model"`
	YAML  string       `json:"yaml"`
	// Conflicts says what else stands in the way: origins or rules that name what
	// would be gone.
	Conflicts []string `json:"conflicts"`
	// Breaks are requests that are in use and would not be answered any more, the first
	// hundred of them.
	Breaks []Breakage `json:"breaks"`
	// Warnings tell of what goes on, and may not be meant.
	Warnings []string `json:"warnings"`
}

// BadLine is a line of an import that was not taken.
type BadLine struct {
	Line   int    `json:"line"`
	Entry  string `json:"entry,omitempty"`
	Reason string `json:"reason"`
}

// Breakage is a request that a model does not answer, though the present one does.
type Breakage struct {
	// What it is: a trusted document, a saved read, or what readers ask for at present.
	What    string `json:"what"`
	Request string `json:"request"`
	Reason  string `json:"reason"`
}

// ModelFiles is a model that is to be applied.
type ModelFiles struct {
	// Files have the model's YAML, by file name.
	Files map[string]string `json:"files"`
	// AllowLoss applies it although stored content would be lost.
	AllowLoss bool `json:"allowLoss,omitempty"`
	// IfVersion refuses it when the present model has another version; 0: not.
	IfVersion int64 `json:"ifVersion,omitempty"`
}

// LocaleEdit is one change of the locales.
type LocaleEdit struct {
	// Do is add, change, retire, restore or order.
	Do  string `json:"do"                 enum:"add,change,retire,restore,order"`
	Tag string `json:"tag,omitempty"`
	// Name and Fallback are for add and change.
	Name     string   `json:"name,omitempty"`
	Fallback []string `json:"fallback,omitempty"`
	// Order has every tag, the default first.
	Order []string `json:"order,omitempty"`
}

// ConversionProgress is how far a change of the model has come.
type ConversionProgress struct {
	// Done entries of Total are converted.
	Done  int `json:"done"`
	Total int `json:"total"`
	// Applied is true in the last line, and Version the new model's.
	Applied bool  `json:"applied"`
	Version int64 `json:"version,omitempty"`
}
