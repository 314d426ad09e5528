package policy

// Reasons are all the ways a request can be turned down, each with the status it answers.
var Reasons = []struct {
	Reason  string
	Status  int
	Title   string
	Meaning string
}{
	{"unknown-name", 400, "Unknown declaration", "The query holds a name that isn't in the language."},
	{"repeated", 400, "Declaration given twice", "A name stands in the query more than once."},
	{"empty", 400, "Declaration without a value", "A name has nothing behind its equals sign."},
	{"unparsable", 400, "Value not understood", "A value isn't written as its declaration wants it."},
	{"out-of-range", 400, "Value out of range", "A value is smaller or larger than is allowed."},
	{"not-decodable", 400, "Not percent-encoded", "A percent sign isn't followed by two hexadecimal digits."},
	{"format-not-lossless", 400, "JPEG can't be lossless", "quality=lossless was asked of a format that has no lossless form."},
	{"bad-path", 400, "Path not allowed", "The path isn't a plain path below a lane."},
	{"bad-request", 400, "Request not understood", "The request's body or query isn't what this call takes."},
	{"not-local", 403, "Only from this machine", "The API was called from elsewhere without a token."},
	{"outside-folder", 403, "Outside the lane's folder", "The path leads through a link to a place that the lane doesn't hold."},
	{"no-such-page", 404, "Nothing here", "The address is neither an image's nor one of the service's own."},
	{"no-such-site", 404, "No such site", "The first part of the path names no site."},
	{"no-such-lane", 404, "No such lane", "The second part of the path names no lane of the site."},
	{"no-such-source", 404, "No such source", "The lane has no file at this path."},
	{"method-not-allowed", 405, "Method not allowed", "The address takes other methods than this one."},
	{"exists", 409, "There already", "Something of that name is there already."},
	{"not-an-image", 422, "Not an image that is read here", "By its first bytes the source is none of the formats that are read."},
	{"source-broken", 422, "The source is broken", "The source's data contradicts itself."},
	{"source-truncated", 422, "The source is cut off", "The file ends before the picture does."},
	{"source-too-many-bytes", 422, "Source file too large", "The file has more bytes than the site reads."},
	{"source-too-many-pixels", 422, "Source picture too large", "The picture has more pixels than the site reads."},
	{"too-large-for-format", 422, "Too large for the format", "The variant would have longer sides than its format can hold."},
	{"render-too-slow", 422, "It took too long to make", "Making the variant took longer than the site allows."},
	{"render-too-much", 422, "It took too much to make", "Making the variant took more memory than a worker has, or ended the worker."},
	{"encoding-failed", 500, "The variant couldn't be encoded", "The encoder gave up."},
	{"internal", 500, "Something broke here", "The service met something that it wasn't made for."},
	{"lane-unreachable", 502, "The lane can't be read", "The folder behind the lane is gone or closed."},
	{"source-unreadable", 502, "The source can't be read", "The file is there, and reading it failed."},
	{"busy", 503, "Busy", "More variants are waiting to be made than there is room for."},
	{"database-away", 503, "The database doesn't answer", "Settings can't be read or changed while the database is away. Images are served all the same."},
}
