package policy

import "sync"

// A Reason is a stable word for why a request is turned down. Those that there are stand below; each has its
// title and its meaning in Reasons.
type Reason string

// The reasons, in the order of Reasons.
const (
	ReasonUnknownName         Reason = "unknown-name"
	ReasonRepeated            Reason = "repeated"
	ReasonEmpty               Reason = "empty"
	ReasonUnparsable          Reason = "unparsable"
	ReasonOutOfRange          Reason = "out-of-range"
	ReasonNotDecodable        Reason = "not-decodable"
	ReasonFormatNotLossless   Reason = "format-not-lossless"
	ReasonBadPath             Reason = "bad-path"
	ReasonBadRequest          Reason = "bad-request"
	ReasonNoSuchRung          Reason = "no-such-rung"
	ReasonShapeNotDelivered   Reason = "shape-not-delivered"
	ReasonBadSettings         Reason = "bad-settings"
	ReasonNotSignedIn         Reason = "not-signed-in"
	ReasonWrongCredentials    Reason = "wrong-credentials"
	ReasonNotPermitted        Reason = "not-permitted"
	ReasonCrossSite           Reason = "cross-site"
	ReasonSourceNotAllowed    Reason = "source-not-allowed"
	ReasonSourceDenied        Reason = "source-denied"
	ReasonBadSourceURL        Reason = "bad-source-url"
	ReasonAddressNotPublic    Reason = "address-not-public"
	ReasonPageNotAllowed      Reason = "page-not-allowed"
	ReasonSignatureNeeded     Reason = "signature-needed"
	ReasonSignatureWrong      Reason = "signature-wrong"
	ReasonKeyUnknown          Reason = "key-unknown"
	ReasonLinkExpired         Reason = "link-expired"
	ReasonNoSuchClass         Reason = "no-such-class"
	ReasonOnlyByClass         Reason = "only-by-class"
	ReasonDataNotTaken        Reason = "data-not-taken"
	ReasonFormatNotDelivered  Reason = "format-not-delivered"
	ReasonOutsideFolder       Reason = "outside-folder"
	ReasonNoSuchPage          Reason = "no-such-page"
	ReasonNoSuchSite          Reason = "no-such-site"
	ReasonNoSuchLane          Reason = "no-such-lane"
	ReasonNoSuchSource        Reason = "no-such-source"
	ReasonMethodNotAllowed    Reason = "method-not-allowed"
	ReasonNoSuchVersion       Reason = "no-such-version"
	ReasonNoSuchThing         Reason = "no-such-thing"
	ReasonExists              Reason = "exists"
	ReasonClassInUse          Reason = "class-in-use"
	ReasonChangedMeanwhile    Reason = "changed-meanwhile"
	ReasonWouldShutOut        Reason = "would-shut-out"
	ReasonIfMatchNeeded       Reason = "if-match-needed"
	ReasonQualityNotDelivered Reason = "quality-not-delivered"
	ReasonSourceTooManyFrames Reason = "source-too-many-frames"
	ReasonVariantTooLarge     Reason = "variant-too-large"
	ReasonGlyphsMissing       Reason = "glyphs-missing"
	ReasonNothingLeft         Reason = "nothing-left"
	ReasonErasedTooMuch       Reason = "erased-too-much"
	ReasonNoClearSubject      Reason = "no-clear-subject"
	ReasonBudgetOutOfReach    Reason = "budget-out-of-reach"
	ReasonNotAnImage          Reason = "not-an-image"
	ReasonSourceBroken        Reason = "source-broken"
	ReasonSourceTruncated     Reason = "source-truncated"
	ReasonSourceTooManyBytes  Reason = "source-too-many-bytes"
	ReasonSourceTooManyPixels Reason = "source-too-many-pixels"
	ReasonTooLargeForFormat   Reason = "too-large-for-format"
	ReasonRenderTooSlow       Reason = "render-too-slow"
	ReasonRenderTooMuch       Reason = "render-too-much"
	ReasonSourceSetAside      Reason = "source-set-aside"
	ReasonTooManyVariants     Reason = "too-many-variants"
	ReasonSecretMissing       Reason = "secret-missing"
	ReasonRequestTooSlow      Reason = "request-too-slow"
	ReasonURITooLong          Reason = "uri-too-long"
	ReasonFieldsTooLarge      Reason = "fields-too-large"
	ReasonTooManyRequests     Reason = "too-many-requests"
	ReasonTooManyTries        Reason = "too-many-tries"
	ReasonMonthUsedUp         Reason = "month-used-up"
	ReasonEncodingFailed      Reason = "encoding-failed"
	ReasonInternal            Reason = "internal"
	ReasonOriginFailed        Reason = "origin-failed"
	ReasonTooManyRedirects    Reason = "too-many-redirects"
	ReasonLaneUnreachable     Reason = "lane-unreachable"
	ReasonSourceUnreadable    Reason = "source-unreadable"
	ReasonOriginSlow          Reason = "origin-slow"
	ReasonLoop                Reason = "loop"
	ReasonWorkerDied          Reason = "worker-died"
	ReasonStopping            Reason = "stopping"
	ReasonBusy                Reason = "busy"
	ReasonDatabaseAway        Reason = "database-away"
)

// Reasons are all the ways a request can be turned down.
var Reasons = []struct {
	Reason  Reason
	Title   string
	Meaning string
}{
	{ReasonUnknownName, "Unknown declaration", "The query holds a name that isn't in the language."},
	{ReasonRepeated, "Declaration given twice", "A name stands in the query more than once."},
	{ReasonEmpty, "Declaration without a value", "A name has nothing behind its equals sign."},
	{ReasonUnparsable, "Value not understood", "A value isn't written as its declaration wants it."},
	{ReasonOutOfRange, "Value out of range", "A value is smaller or larger than is allowed."},
	{ReasonNotDecodable, "Not percent-encoded", "A percent sign isn't followed by two hexadecimal digits."},
	{ReasonFormatNotLossless, "JPEG can't be lossless", "quality=lossless was asked of a format that has no lossless form."},
	{ReasonBadPath, "Path not allowed", "The path isn't a plain path below a lane."},
	{ReasonBadRequest, "Request not understood", "The request's body or query isn't what this call takes."},
	{ReasonNoSuchRung, "Not a width of the ladder", "The site delivers a ladder of widths, and this one isn't among them."},
	{ReasonShapeNotDelivered, "Not a shape that is delivered", "The site lists the aspect ratios that it delivers, and this one isn't among them."},
	{ReasonBadSettings, "Settings not understood", "A site's settings hold something that can't be."},
	{ReasonNotSignedIn, "Sign in first", "The call needs a token or a signed-in person."},
	{ReasonWrongCredentials, "That isn't right", "Name and password don't go together, or the one-time link was used."},
	{ReasonNotPermitted, "Not permitted", "The token or the person may do less than this call does."},
	{ReasonCrossSite, "Called from another site's page", "A page of another origin tried to use a person's session."},
	{ReasonSourceNotAllowed, "Source not allowed", "No allow rule of the lane matches the source's URL."},
	{ReasonSourceDenied, "Source denied", "A deny rule of the lane matches the source's URL."},
	{ReasonBadSourceURL, "Source's URL not understood", "The source's URL isn't one that a web lane can fetch."},
	{ReasonAddressNotPublic, "Not a public address", "The source's host leads to an address that isn't on the public internet."},
	{ReasonPageNotAllowed, "Page not allowed", "The page that embeds the image isn't one of those that the site allows."},
	{ReasonSignatureNeeded, "A signature is needed", "The site answers this only to signed links."},
	{ReasonSignatureWrong, "Wrong signature", "The signature isn't what the key gives for this address."},
	{ReasonKeyUnknown, "No such key", "The site has no signing key of this name."},
	{ReasonLinkExpired, "The link has ended", "The time in expires is past."},
	{ReasonNoSuchClass, "No such class", "The site's sheet has no rule for a class that the request names."},
	{ReasonDataNotTaken, "Nothing takes that value", "A URL gives a card a value that none of its layers takes, or that can't stand where it is to."},
	{ReasonOnlyByClass, "Only through classes", "The site lets its sheet's classes do this, not a URL."},
	{ReasonFormatNotDelivered, "Format not delivered", "The site doesn't deliver the format that was asked for."},
	{ReasonOutsideFolder, "Outside the lane's folder", "The path leads through a link to a place that the lane doesn't hold."},
	{ReasonNoSuchPage, "Nothing here", "The address is neither an image's nor one of the service's own."},
	{ReasonNoSuchSite, "No such site", "The first part of the path names no site."},
	{ReasonNoSuchLane, "No such lane", "The second part of the path names no lane of the site."},
	{ReasonNoSuchSource, "No such source", "The lane has no file at this path."},
	{ReasonMethodNotAllowed, "Method not allowed", "The address takes other methods than this one."},
	{ReasonNoSuchVersion, "No such version", "The address names a version of the source that it isn't any more."},
	{ReasonNoSuchThing, "No such thing", "The API has nothing of that name."},
	{ReasonExists, "There already", "Something of that name is there already."},
	{ReasonClassInUse, "Classes are in use", "Requests of the last 30 days name classes that the sheet would no longer have."},
	{ReasonChangedMeanwhile, "Changed meanwhile", "Somebody else changed it since it was read."},
	{ReasonWouldShutOut, "It would shut others out", "The change makes one thing the only one that is allowed, where all were."},
	{ReasonIfMatchNeeded, "Say what you change", "The call needs If-Match with the version that was read."},
	{ReasonQualityNotDelivered, "Quality not delivered", "The quality lies outside the site's floor and ceiling."},
	{ReasonSourceTooManyFrames, "Too many frames", "The animation has more frames than the site reads."},
	{ReasonVariantTooLarge, "Variant too large", "The variant would be larger than what the site delivers."},
	{ReasonGlyphsMissing, "Characters that the font lacks", "The layer's text holds characters that the font has no glyphs for."},
	{ReasonErasedTooMuch, "Erased too much", "What erase names is more of the picture than the rest can fill."},
	{ReasonNoClearSubject, "No clear subject", "Nothing in the picture stands out enough from the rest to be cut out of it."},
	{ReasonNothingLeft, "Nothing left", "The part of the picture that xywh names lies beside it."},
	{ReasonBudgetOutOfReach, "Budget out of reach", "No variant at the site's least quality has so few bytes."},
	{ReasonNotAnImage, "Not an image that is read here", "By its first bytes the source is none of the formats that are read."},
	{ReasonSourceBroken, "The source is broken", "The source's data contradicts itself."},
	{ReasonSourceTruncated, "The source is cut off", "The file ends before the picture does."},
	{ReasonSourceTooManyBytes, "Source file too large", "The file has more bytes than the site reads."},
	{ReasonSourceTooManyPixels, "Source picture too large", "The picture has more pixels than the site reads."},
	{ReasonTooLargeForFormat, "Too large for the format", "The variant would have longer sides than its format can hold."},
	{ReasonRenderTooSlow, "It took too long to make", "Making the variant took longer than the site allows."},
	{ReasonRenderTooMuch, "It took too much to make", "Making the variant took more memory than a worker has."},
	{ReasonSourceSetAside, "The source is set aside", "Workers have died over the source: nothing is made of it until it changes or somebody clears it."},
	{ReasonTooManyVariants, "Too many variants of one source", "The source has as many variants as the site allows."},
	{ReasonSecretMissing, "A secret is missing", "Credentials, or the key that they are kept under, aren't there."},
	{ReasonRequestTooSlow, "Request too slow", "The request didn't come to its end in the time that one has."},
	{ReasonURITooLong, "Address too long", "The request's target is longer than is read."},
	{ReasonFieldsTooLarge, "Fields too large", "The request's fields are longer than is read."},
	{ReasonTooManyRequests, "Too many requests", "The client asks more often than the site allows."},
	{ReasonTooManyTries, "Too many tries", "Signing in failed too often."},
	{ReasonMonthUsedUp, "The month is used up", "The site has used what it may in this calendar month."},
	{ReasonEncodingFailed, "The variant couldn't be encoded", "The encoder gave up."},
	{ReasonInternal, "Something broke here", "The service met something that it wasn't made for."},
	{ReasonOriginFailed, "The origin failed", "The host behind the lane answered with an error, or not in HTTP."},
	{ReasonTooManyRedirects, "Too many redirects", "The origin sent the request from place to place."},
	{ReasonLaneUnreachable, "The lane can't be read", "The folder behind the lane is gone or closed."},
	{ReasonSourceUnreadable, "The source can't be read", "The file is there, and reading it failed."},
	{ReasonOriginSlow, "The origin was slow", "The host behind the lane took too long."},
	{ReasonLoop, "Loop", "The request came through this service before (CDN-Loop, RFC 8586)."},
	{ReasonWorkerDied, "A render worker ended", "The process that made the variant ended before it was done. It is no fault of the request."},
	{ReasonStopping, "The service is stopping", "This node is about to end; another one answers."},
	{ReasonBusy, "Busy", "More variants are waiting to be made than there is room for."},
	{ReasonDatabaseAway, "The database doesn't answer", "Settings can't be read or changed while the database is away. Images are served all the same."},
}

// byReason finds a reason's place in Reasons.
var byReason = sync.OnceValue(func() map[Reason]int {
	m := make(map[Reason]int, len(Reasons))
	for i := range Reasons {
		m[Reasons[i].Reason] = i
	}
	return m
})
