package problem

import "slices"

// Types.
const (
	MalformedRequest     Type = "malformed-request"
	NotSignedIn          Type = "not-signed-in"
	WrongCredentials     Type = "wrong-credentials"
	Forbidden            Type = "forbidden"
	TokenScope           Type = "token-scope"
	NotFound             Type = "not-found"
	MethodNotAllowed     Type = "method-not-allowed"
	NotAcceptable        Type = "not-acceptable"
	WrongState           Type = "wrong-state"
	Busy                 Type = "busy"
	InUse                Type = "in-use"
	NameTaken            Type = "name-taken"
	NothingToDo          Type = "nothing-to-do"
	NotPossible          Type = "not-possible"
	NotCleared           Type = "not-cleared"
	VersionBlocked       Type = "version-blocked"
	NoFallback           Type = "no-fallback"
	RolloversOpen        Type = "rollovers-open"
	NotConfirmedEmpty    Type = "not-confirmed-empty"
	SealChecks           Type = "seal-checks"
	SheetChanged         Type = "sheet-changed"
	Incompatible         Type = "incompatible"
	NoCopy               Type = "no-copy"
	NotRecorded          Type = "not-recorded"
	SourceFailed         Type = "source-failed"
	TimedOut             Type = "timed-out"
	NoSpace              Type = "no-space"
	LimitReached         Type = "limit-reached"
	NotConfigured        Type = "not-configured"
	UploadOffset         Type = "upload-offset"
	KeyInUse             Type = "idempotency-key-in-use"
	ChangedSinceRead     Type = "changed-since-read"
	TooLarge             Type = "too-large"
	UnsupportedMediaType Type = "unsupported-media-type"
	InvalidRequest       Type = "invalid-request"
	InvalidFile          Type = "invalid-file"
	DigestMismatch       Type = "digest-mismatch"
	ReasonRequired       Type = "reason-required"
	KeyReused            Type = "idempotency-key-reused"
	NoDryRun             Type = "no-dry-run"
	PreconditionRequired Type = "precondition-required"
	TooManyRequests      Type = "too-many-requests"
	Internal             Type = "internal-error"
	Unavailable          Type = "unavailable"
)

// Entry describes a type.
type Entry struct {
	Type    Type
	Status  int    // of the HTTP response
	Title   string // the same for each problem of the type
	Meaning string
	Remedy  string
}

// Entry returns the description of the type. A type that is not listed has the status 500.
func (t Type) Entry() Entry {
	if i := slices.IndexFunc(All, func(e Entry) bool { return e.Type == t }); i >= 0 {
		return All[i]
	}
	return Entry{Type: t, Status: 500, Title: string(t)}
}

// OfStatus returns the type that describes an HTTP status without further detail: the first of that status in All.
func OfStatus(status int) (Type, bool) {
	for _, e := range All {
		if e.Status == status {
			return e.Type, true
		}
	}
	return "", false
}

// All has every type, ordered by status. The first of a status is the general one.
var All = []Entry{
	{
		MalformedRequest, 400, "Malformed request",
		"The request is not valid HTTP or JSON, or one of its headers cannot be read.",
		"Correct the request. A retry of the same request fails again.",
	},
	{
		NotSignedIn, 401, "Not signed in",
		"The request has no session or token, or the session or token has expired or was revoked.",
		"Sign in, or send a valid bearer token.",
	},
	{
		WrongCredentials, 401, "Wrong credentials",
		"The account does not exist or is disabled, or the password is wrong.",
		"Check name and password. An administrator can reset the password or enable the account.",
	},
	{
		Forbidden, 403, "Not allowed",
		"The account lacks the role that the operation needs, or the object belongs to another account.",
		"Ask an administrator for the role that the detail names, or an account that has it.",
	},
	{
		TokenScope, 403, "Outside the scope of the token",
		"The token is restricted to an image, a pool or a role, and the operation is outside of it.",
		"Use a token with a wider scope, or sign in with your password.",
	},
	{
		NotFound, 404, "Not found",
		"No object has this name or number, or no operation has this path.",
		"Check the name. Lists of the API and shell completion show the existing names.",
	},
	{
		MethodNotAllowed, 405, "Method not allowed",
		"The path exists, but not with this HTTP method.",
		"Use a method that the API reference lists for the path.",
	},
	{
		NotAcceptable, 406, "No acceptable media type",
		"The operation has no response of the media types in the Accept header.",
		"Omit the header, or use a media type that the API reference lists.",
	},
	{
		WrongState, 409, "Not in this state",
		"The object is in a state in which the operation is not possible.",
		"The detail names the state and the states that allow the operation.",
	},
	{
		Busy, 409, "Operation in progress",
		"Another operation on the same object is running.",
		"Wait for its end and repeat the request, or cancel the other operation.",
	},
	{
		InUse, 409, "In use",
		"A track, pool, rollover, build or schedule uses the object.",
		"End the uses that the detail lists, then repeat the request.",
	},
	{
		NameTaken, 409, "Name taken",
		"An object with this name already exists.",
		"Use another name, or change or delete the existing object.",
	},
	{
		NothingToDo, 409, "Nothing to do",
		"The operation would change nothing.",
		"No action is needed.",
	},
	{
		NotPossible, 409, "None possible",
		"The operation is not possible for any of the objects in the request.",
		"See the reason for each object.",
	},
	{
		NotCleared, 409, "Not cleared",
		"The version does not meet the clearance rules of its image.",
		"See the unmet rules (pane trial show), and complete the trial. An administrator can override the rules " +
			"with a reason.",
	},
	{
		VersionBlocked, 409, "Version blocked",
		"The version is blocked, so no host, build or test machine may be made from it.",
		"Use another version, or unblock this version with a reason.",
	},
	{
		NoFallback, 409, "No earlier version",
		"The image or its hosts have no earlier version to go back to.",
		"Give the version to roll back to, or activate another version.",
	},
	{
		RolloversOpen, 409, "Open rollovers",
		"Open rollovers would take hosts to another version than the new target.",
		"Redirect the rollovers to the new target, or stop them first.",
	},
	{
		NotConfirmedEmpty, 409, "Not confirmed empty",
		"The host's agent does not answer, so the service cannot know whether users are logged in.",
		"Check the host yourself, then repeat the request with your confirmation and a reason.",
	},
	{
		SealChecks, 409, "Seal checks not passed",
		"The build machine was not checked in its present state, or a seal check failed.",
		"Check the build machine, apply the remedies, or ignore findings with a reason.",
	},
	{
		SheetChanged, 409, "Sheet changed",
		"A part of the build sheet that the build has already carried out differs from the new sheet.",
		"Start a new build with the new sheet.",
	},
	{
		Incompatible, 409, "Incompatible",
		"The objects do not fit together: machine class, firmware, architecture or size differ.",
		"Choose objects that fit, as the detail describes.",
	},
	{
		NoCopy, 409, "No copy at the site",
		"The version has no usable copy at the site.",
		"Deliver the version to the site, and wait for the delivery.",
	},
	{
		NotRecorded, 409, "Not recorded",
		"The version or machine has no such record: a software list, a provenance statement, or steps.",
		"The detail says why it is missing and how to create it.",
	},
	{
		SourceFailed, 409, "Source not available",
		"A feed, a repository or a site did not answer, or its answer cannot be used.",
		"Correct the cause that the detail names; the service tries again by schedule.",
	},
	{
		TimedOut, 409, "Timed out",
		"A command in a machine did not end within its time limit. It may still be running.",
		"Look at the machine before you repeat the command.",
	},
	{
		NoSpace, 409, "Not enough space",
		"The service's disk has not enough free space.",
		"Free the space that the detail names, then repeat the request.",
	},
	{
		LimitReached, 409, "Limit reached",
		"The object already has the greatest number of entries.",
		"Remove entries, or use another object.",
	},
	{
		NotConfigured, 409, "Not configured",
		"The service or the site is not set up for the operation.",
		"Configure the service as the detail describes.",
	},
	{
		UploadOffset, 409, "Wrong upload offset",
		"The piece of the upload does not continue the stored part of the file.",
		"Continue the upload at the byte that the detail names.",
	},
	{
		KeyInUse, 409, "Request in progress",
		"A request with the same idempotency key is still running.",
		"Repeat the request after a short wait.",
	},
	{
		ChangedSinceRead, 412, "Changed since it was read",
		"The object was changed after the state that the request refers to.",
		"Read the object again, and repeat the change if it is still right.",
	},
	{
		TooLarge, 413, "Too large",
		"The request or the file is larger than the operation accepts.",
		"Send at most as many bytes as the detail names.",
	},
	{
		UnsupportedMediaType, 415, "Unsupported media type",
		"The operation does not accept the Content-Type of the request.",
		"Use a media type that the API reference lists.",
	},
	{
		InvalidRequest, 422, "Invalid request",
		"A value of the request is missing, out of range, or does not fit another value.",
		"Correct the values that the detail or the errors list.",
	},
	{
		InvalidFile, 422, "Invalid file",
		"A build sheet, an estate file or a list of software or vulnerabilities has errors. Nothing of it was applied.",
		"Correct the errors; all of them are listed.",
	},
	{
		DigestMismatch, 422, "Digest mismatch",
		"The uploaded file has another digest than announced.",
		"Upload the file again.",
	},
	{
		ReasonRequired, 422, "Reason required",
		"The operation is recorded with a reason, and the request has none.",
		"Repeat the request with a reason.",
	},
	{
		KeyReused, 422, "Idempotency key reused",
		"An earlier request had the same idempotency key and another content.",
		"Use a new key for a new request.",
	},
	{
		NoDryRun, 422, "No dry run",
		"The operation has no dry run.",
		"Omit the Dry-Run header.",
	},
	{
		PreconditionRequired, 428, "Precondition required",
		"The operation needs an If-Match header with the ETag of the object.",
		"Read the object, and send its ETag in If-Match.",
	},
	{
		TooManyRequests, 429, "Too many requests",
		"The account or address has sent too many requests, or too many wrong passwords.",
		"Wait for the time in the Retry-After header.",
	},
	{
		Internal, 500, "Internal error",
		"The service failed unexpectedly. Its log has the cause.",
		"Read the log of the service, and report the error.",
	},
	{
		Unavailable, 503, "Unavailable",
		"The database does not answer, or the service is stopping.",
		"Repeat the request after the time in the Retry-After header.",
	},
}
