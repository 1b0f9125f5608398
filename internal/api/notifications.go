package api

import "time"

// How somebody is told of something.
const (
	// TellNow sends a mail at once, TellDaily one a day with everything, TellNever none.
	TellNow   = "now"
	TellDaily = "daily"
	TellNever = "never"
)

// NotificationSettings say how an account is told of what. Empty parts mean the default.
type NotificationSettings struct {
	// Review is of entries that wait for somebody to approve them; the default is now.
	Review string `json:"review,omitempty"   enum:"now,daily,never"`
	// Decision is of what was decided of entries that the account has submitted; now.
	Decision string `json:"decision,omitempty" enum:"now,daily,never"`
	// Overdue is of entries that have waited for three days; daily.
	Overdue string `json:"overdue,omitempty"  enum:"now,daily,never"`
	// Trouble is of failing builds, silent origins and the like; never.
	Trouble string `json:"trouble,omitempty"  enum:"now,daily,never"`
}

// WithDefaults returns the settings with all parts set.
func (s NotificationSettings) WithDefaults() NotificationSettings {
	for _, part := range []struct {
		into *string
		or   string
	}{{&s.Review, TellNow}, {&s.Decision, TellNow}, {&s.Overdue, TellDaily}, {&s.Trouble, TellNever}} {
		if *part.into == "" {
			*part.into = part.or
		}
	}
	return s
}

// Notification is something that an account is told by mail.
type Notification struct {
	ID      int64  `json:"id"`
	Account string `json:"account"`
	// Email of the account.
	Email   string     `json:"email"`
	Event   string     `json:"event"`
	Entry   string     `json:"entry,omitempty"`
	Subject string     `json:"subject"`
	Text    string     `json:"text"`
	At      time.Time  `json:"at"`
	Daily   bool       `json:"daily"`
	State   string     `json:"state"` // waiting, sent, failed
	Error   string     `json:"error,omitempty"`
	Sent    *time.Time `json:"sent"`

	// Attempts counts the tries to send it.
	Attempts int `json:"-"`
}

// NotificationFilter narrows a list of notifications.
type NotificationFilter struct {
	State string `query:"state" json:"-" enum:"waiting,sent,failed"`
	// Limit is 50 if it is not given or more than 500.
	Limit int `query:"limit" json:"-"`
}

// OverdueReview is an entry that has waited for approval for long.
type OverdueReview struct {
	Entry string    `json:"entry"`
	Type  string    `json:"type"`
	Title string    `json:"title"`
	By    string    `json:"by"` // who has submitted it
	Since time.Time `json:"since"`
}
