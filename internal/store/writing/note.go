package writing

import (
	"cmp"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/store/audit"
)

// standing is what the audit log says of an entry before and after an edit.
type standing struct {
	Type              string     `json:"type"`
	Revision          int        `json:"revision"`
	PublishedRevision int        `json:"publishedRevision"`
	Review            string     `json:"review,omitempty"`
	Retired           *time.Time `json:"retired,omitempty"`
}

// note adds an edit that somebody has asked for to the audit log; what an origin
// announces is in the log of events.
func (w *write) note(e *Edit, before *heldEntry, after *entryState) {
	w.noteReview(e, before)
	if w.cause.Kind != "user" && w.cause.Kind != "schedule" {
		return
	}
	stands := func(e *content.Entry) any {
		if e.Revision == 0 {
			return nil
		}
		return standing{
			Type:              e.Type,
			Revision:          e.Revision,
			PublishedRevision: e.PublishedRevision,
			Review:            e.Review,
			Retired:           e.Retired,
		}
	}
	var then any
	if after != nil {
		then = stands(&after.Entry)
	}
	w.acts = append(
		w.acts,
		audit.NewRecord(audit.ActorFrom(w.ctx, w.cause), "entry "+e.does(), e.ID, stands(&before.Entry), then),
	)
}

// noteReview notes for the rules what was said of an entry that readers see no difference in.
func (w *write) noteReview(e *Edit, before *heldEntry) {
	o := rule.Occurrence{
		Event: e.Review, Entry: e.ID, Type: cmp.Or(before.Type, e.Type), By: w.cause.Name, Detail: e.Remark,
		Origin: content.Local, Chain: w.cause.Chain,
	}
	switch {
	case e.Review == "":
		return
	case w.cause.Kind == "submission":
		o.Event = rule.HandedIn
	}
	w.signals = append(w.signals, o)
}

// does names what the edit does, as the command line does.
func (e *Edit) does() string {
	switch {
	case e.Delete:
		return "delete"
	case e.Retire:
		return "retire"
	case e.Live == PublishNewest || e.Live == PublishGiven:
		return "publish"
	case e.Live == TakeBack:
		return "unpublish"
	case e.Review == content.Submitted:
		return "submit"
	case e.Review == content.Approved:
		return "approve"
	case e.Review == content.Returned:
		return "return"
	case e.Discard:
		return "discard"
	case e.Restore != 0:
		return "restore"
	}
	return "save"
}

// owner says whose an entry is.
func owner(origin string) string {
	if origin == content.Local {
		return "us, who edit it here"
	}
	return "the origin " + origin
}
