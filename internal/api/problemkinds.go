package api

// ProblemKinds has, by the last part of a problem's type, its title and what
// its page says.
var ProblemKinds = map[string][2]string{
	"parameter": {
		"A parameter is wrong",
		"A parameter of the request is unknown or has a value that cannot be. The detail names it, the hint says " +
			"what would do. Nothing is ignored silently: a misspelled parameter would otherwise give an answer to " +
			"another question.",
	},
	"no-key": {
		"A key is needed", "What was asked for is not open to everyone. Send a key: Authorization: Bearer ubq_…",
	},
	"bad-key": {
		"The key is not good", "The key that was sent is not whole, not known here, revoked or expired.",
	},
	"grant": {
		"A grant is missing",
		"The key may not read what was asked for. The problem names the missing grant: verb, edition and type. A " +
			"nested selection needs the grant of the type that it enters.",
	},
	"not-found": {"Not found", "There is nothing at this address that you may see."},
	"method":    {"Method not served", "The address is served, but not with this method."},
	"body": {
		"The body cannot be read", "The body of the request is not of the form that is wanted here.",
	},
	"broken-file": {
		"The file is not taken",
		"The file is empty, its bytes are not what its name says, or it is a picture that cannot be decoded or has " +
			"too many pixels. The detail says which. Nothing of it was kept.",
	},
	"refused-file": {
		"The virus scanner refuses the file",
		"The service sends what is uploaded to a virus scanner first. Nothing was kept.",
	},
	"scanner": {
		"The virus scanner does not answer", "What is uploaded is looked at by a virus scanner first. Try again later.",
	},
	"quota": {
		"There is no room for the file",
		"All files of the environment together may take so many bytes and no more (files.quota). Delete unused ones.",
	},
	"fetch": {
		"The file cannot be fetched",
		"The service cannot get what is at the address: it lies in a private network, does not answer, or answers " +
			"with an error. The detail says which.",
	},
	"picture": {
		"The picture cannot be made",
		"Region, size, rotation, quality or format of the address are not of the form of the IIIF Image API 3.0, or " +
			"do not fit the picture. The detail names what, the hint says what would do.",
	},
	"no-picture": {
		"No pictures are made of the file", "Pictures are made of JPEG, PNG, GIF, WebP, AVIF and TIFF. Get the file itself.",
	},
	"address-signature": {
		"The address takes a signature",
		"Anybody may ask for pictures in the widths that the service makes anyhow. Others take an address that a read " +
			"has handed out, which is signed.",
	},
	"too-large": {"Too large", "The body of the request is larger than what is taken here."},
	"changes-gone": {
		"The changes are not kept any more",
		"Changes stay in the log for a time, and as long as some node needs them. Who comes later reads anew what " +
			"it holds, and goes on from the present sequence, which the hint names.",
	},
	"content": {
		"The content is not valid",
		"One or several values break a rule of the model. Each problem names entry, field and rule.",
	},
	"conflict": {
		"Saved meanwhile by somebody else", "The entry is at another revision than the one that was named.",
	},
	"referred": {
		"Others refer to it",
		"The entry is not deleted or retired while other entries refer to it. The problem lists them. Take the " +
			"references out first, or say evenIfReferred.",
	},
	"model": {"The model is not valid", "The problem lists every mistake with file, line and column."},
	"loss": {
		"Content would be lost",
		"The model would lose stored content. The problem lists what. Apply it with allowLoss if that is meant.",
	},
	"model-moved": {
		"The model has changed meanwhile",
		"Somebody else has applied a model since yours was made. Look at the differences again.",
	},
	"setting": {
		"A setting is wrong",
		"A rule, a site, an origin or another setting cannot be kept as it was sent. Everything that is wrong is in " +
			"settings, each with the path of what it is about. Nothing was changed.",
	},
	"setting-changed": {
		"The setting was changed meanwhile",
		"The record has another version than the one that the change was made on. Get it again, and make the change " +
			"on that.",
	},
	"mail": {
		"The mail was not sent", "The mail server cannot be reached, or did not take the message; the detail says why.",
	},
	"configuration": {
		"Origins or rules do not fit the model",
		"An origin maps to, or a rule names, a type or field that the model would not have.",
	},
	"moment":      {"No such moment", "The moment is over, cannot be read, or does not exist in the time zone."},
	"not-pending": {"Not pending any more", "The schedule has been carried out or cancelled."},
	"bad-line": {
		"The import has stopped", "A line of the import is not good, and it was to stop at such a line.",
	},
	"not-pushed": {
		"The origin's items are not written here",
		"They are read from somewhere. An origin that writes its items here has pull: {push: true}.",
	},
	"foreign": {
		"The entry is edited elsewhere", "The entry comes from an outside origin and can only be edited there.",
	},
	"signature": {"Not proven", "The announcement does not prove that it comes from the origin."},
	"media-type": {
		"Content type not read here", "The body's content type is none of those that are read here.",
	},
	"behind": {
		"Not known yet",
		"This node does not know of the newest changes at the moment, or not of the one that was asked for, and " +
			"gives no older answer. Try again in a moment.",
	},
	"too-long": {
		"The address is too long",
		"The address of a read has a bound. Long GraphQL requests are sent with POST, or as trusted documents.",
	},
	"not-held": {
		"Not in the cache",
		"The request asked for what is in the cache only (Cache-Control: only-if-cached), and there is nothing " +
			"under it.",
	},
	"origin": {
		"The origin does not answer as it should",
		"What the origin said, or that it cannot be reached, is in the detail; ubiquon origin list shows how it " +
			"stands. It is tried again by itself.",
	},
	"too-slow": {
		"The read took too long",
		"An answer is computed, and a write carried out, for a limited time. Ask for less at once, or have the " +
			"model mark the fields that lists are filtered and sorted by as indexed.",
	},
	"overloaded": {
		"Too much at once",
		"More has to be computed than this node does at once, and the request has waited for its turn. Answers " +
			"that are in the cache are served all the same. Try again when Retry-After says.",
	},
	"answer-too-large": {
		"The answer is too large",
		"The answer would have more bytes than this service computes (limits.answer). Ask for fewer entries, or " +
			"for less of each.",
	},
	"principal": {
		"Not for this kind of principal",
		"The address is not for a key, link or token of this kind, whatever its grants are.",
	},
	"proof": {
		"The password is asked for again",
		"Who may do what is changed only by somebody who has given the password within the last ten minutes.",
	},
	"away": {
		"The database is away",
		"This node cannot reach its database, and has no answer of its own that it may give. Try again in a moment.",
	},
	"internal":    {"Something went wrong here", "The service failed. Its log has more."},
	"not-running": {"The build has ended", "A report came for a build that does not run."},
	"one-entry": {
		"The link is for another entry",
		"A preview link reads one entry, and what that shows. For the rest a site sends its own key.",
	},
	"too-many": {
		"Too many requests",
		"Something was asked for, or tried, more often than is allowed. Retry-After says when to go on.",
	},
	"cross-site": {
		"From another site",
		"A browser sent this from a page of another site, with the session of somebody who is signed in here. " +
			"That is never done.",
	},
	"sign-in": {"Not signed in", "The e-mail address or the password is wrong."},
	"account": {
		"The account cannot be so",
		"Two accounts cannot have one address, and somebody must be left who can administer.",
	},
	"not-taken": {"Nothing is taken in here", "Entries of the type cannot be handed in from outside."},
	"idempotency": {
		"A key for another write",
		"A write that is sent again with its Idempotency-Key is made once. The key is for one request: see the detail.",
	},
	"query-string": {
		"A key in the address",
		"Keys in addresses end up in logs and histories. Send the key in the Authorization header.",
	},
}
