package judge

// Severity of a finding: an error fails the run, a warning and a note do not.
type Severity string

// The severities.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Note    Severity = "note"
)

// Trait is a set of what is true of all findings of a code.
type Trait int

// The traits.
const (
	Independent  Trait = 1 << iota // wrong whether or not the operation's control was accepted
	OfForm                         // of the answer's form, whatever was wrong with the request: one cause over operations and fields
	OfWriting                      // how the answer is written, and not what it says
	Unproves                       // nothing is shown of the flaw: the case is unproven
	Departs                        // such an answer cannot be the documented one, which need not be said as well
	PerOperation                   // each operation's is a cause of its own
	Answers                        // of whatever severity: the answer is not a right one, and the case does not pass
	PerFamily                      // what is enforced, or forgotten, in one place is one cause (rule.Family)
)

// Has reports whether all of t are in the set.
func (s Trait) Has(t Trait) bool { return s&t == t }

// Code describes a kind of finding, for every place that shows one.
type Code struct {
	Code     string
	Severity Severity
	Title    string // one line
	Cites    string // the standard it rests on; may be empty
	Traits   Trait  // what is true of all its findings

	Means   string // what was seen
	Spared  string // where it is not told, or told as less, and the section that says so
	Matters string // what it does to a client
	Remedy  string // how to put it right
	Example string // a correct answer, or a passage of one
}

const (
	fieldAnswer = `HTTP/1.1 422 Unprocessable Content
Content-Type: application/problem+json

{
  "type": "https://harbour.example/problems/invalid-fields",
  "title": "Fields are invalid",
  "status": 422,
  "errors": [
    { "pointer": "#/crew/0/rank", "detail": "must be one of master, mate, engineer" }
  ]
}`
	twoFields = `"errors": [
  { "pointer": "#/name", "detail": "must have at least 2 characters" },
  { "pointer": "#/length_m", "detail": "must be more than 0" }
]`
	plainAnswer = `HTTP/1.1 400 Bad Request
Content-Type: application/problem+json

{ "type": "https://harbour.example/problems/malformed-json", "title": "Malformed JSON", "status": 400 }`
)

// Codes are all findings, most serious first.
var Codes = []Code{
	{"crashed", Error, "a flawed request made the service fail", "RFC 9110, section 15.6", Independent | PerFamily,
		"The answer is a 5xx, and again when the request is sent once more with fresh values and nothing else in flight. The mistake was the client's; the service reported it as its own, or failed because of it.",
		"Where the operation's valid request is answered with a 5xx as well: that is control-rejected, once. A 5xx that is not given again is unstable, a warning. A 503 counts only where the operation's valid request is accepted right before and after it; else it is no-answer, a warning (RFC 9110, section 15.6.4).",
		"Clients retry a 5xx and never learn to correct their request; alerts fire for every typing error; and what fails on odd input can often be made to fail on purpose.",
		"Find the exception in the log (the header Obiter-Case names the request), and check the value before it is used. A body that cannot be decoded is a 400.",
		plainAnswer},
	{"leaks-internals", Error, "the answer shows internals of the service", "RFC 9457, section 5", Independent | OfForm,
		"A stack trace, a class or file name, a database's message or a framework's error page is in the answer.",
		"Words that only look like code: the answer must hold a trace, a path of a source file, a database's or a decoder's own words, or a framework's page.",
		"It does not help the client, and it helps an attacker: versions, table names, weak points.",
		"Log it, give the client a reference number, and switch the framework's developer pages off outside development.",
		plainAnswer},
	{"echoes-secret", Error, "a secret value comes back", "RFC 9457, section 5", Independent,
		"The value of a writeOnly or password field is in the answer.",
		"Values of fewer than eight characters, and fields that are neither writeOnly nor of format password.",
		"Secrets in answers end up in logs, error trackers and browser consoles.",
		"Leave the rejected value out of field errors, always for fields that are writeOnly or of format password.",
		`{ "pointer": "#/pass_phrase", "detail": "must have at least 12 characters" }`},
	{"unsafe-html", Error, "the input comes back as HTML, unescaped", "", Independent,
		"Markup from the request is in an answer of type text/html, unescaped.",
		"Answers that are not text/html, and markup that comes back escaped.",
		"Anyone who gets a victim to follow a link can run a script in the service's page.",
		"Answer with application/problem+json; if it has to be a page, escape what comes from the request.",
		plainAnswer},
	{"accepted", Error, "a flawed request was accepted", "", Independent | Answers | PerFamily,
		"A request that breaks the description was answered with success. Where the answer shows what was stored, the finding says so. An empty value in a query or a form is only a warning, because many readers treat it as absent; so is what standards leave open.",
		"A warning, not an error: what no standard settles, such as an empty value in a query or a form, 1 for true in text, a body without Content-Type (RFC 9110, section 8.3), an unknown content coding (section 15.5.16), a name twice in an object (RFC 8259, section 4), an id of nothing. Not told of headers that a server is told to ignore when they are wrong (RFC 9110, sections 12.5 and 13.1; RFC 7240, section 2), and of a charset on JSON (RFC 8259, section 11).",
		"The rule is written but never runs: records that break it get into the data, and everything that reads them has to cope. It is forgotten most often on the update endpoint.",
		"Check the rule where the request comes in, on every operation that accepts the field, before anything is stored. If the description is wrong, loosen it.",
		fieldAnswer},
	{"read-only-stored", Error, "a member that only the service sets was taken from the request", "JSON Schema 2020-12, Validation, section 9.4", Independent | Answers | PerFamily,
		"A member that the description calls readOnly was sent, with a value that no service has by itself, and the answer shows that value; or, where the answer is empty, the resource does when it is read.",
		"Ignoring the member is right, and so is refusing it. Of members that the description does not know, such as role, it is only a warning.",
		"A client that may set an id, a time stamp or a role can take over records, forge their history or give itself rights.",
		"Read requests into a type of their own, without what the service sets; or take the members out before anything is stored.",
		"HTTP/1.1 201 Created\nContent-Type: application/json\n\n{ \"id\": \"7f3a\", \"name\": \"Fulmar\" }"},
	{"no-answer", Error, "no answer came", "", Independent | Unproves | PerFamily,
		"The connection came about, and then it was reset or closed, the answer was not HTTP, or it took longer than --timeout. It is only a warning where the service is busy (429, 503) and still is when the request is sent again with nothing else in flight, after the wait it asks for.",
		"A connection that was closed while a body of many megabytes was being sent (RFC 9110, section 15.5.14), and one that did not come about, which is not-judged. Where the service is gone, the run stops, and nothing that follows is counted.",
		"A client sees a broken network and tries again; often a handler was killed.",
		"Look for the request's Obiter-Case in the log. Let a final handler turn whatever escapes into a problem document.",
		plainAnswer},
	{"control-rejected", Error, "a valid request was refused", "", Independent | PerOperation,
		"A request that obeys every rule of the description was refused in a way that contradicts it: the service failed, did not know the method or the media type, or blamed a field whose value obeys its schema. What else the operation rejects then proves nothing, because it may reject everything. A refusal for want of a record, of credentials or of a state is not-reached instead.",
		"A refusal that contradicts nothing: 401, 403, 404, 409, 410, or a 400 or 422 that blames no field, or one that stands for a record (an id, a key, what is in the path). That is not-reached.",
		"Either a valid client is turned away, or the description does not say what the service requires: a rule is missing.",
		"Read the service's own words in the finding, and write missing rules into the description.",
		"HTTP/1.1 201 Created"},
	{"edge-rejected", Error, "a valid boundary value was refused", "", PerFamily,
		"A value exactly on a limit, allowed by the description, was refused.",
		"Where the refusal speaks of records or credentials (401, 403, 404, 409, 410), or the field names a record: that is conflict, a note. Not told where the valid request without the boundary was refused.",
		"A limit is off by one, or lengths are counted in bytes or UTF-16 units where the description counts characters.",
		"Compare with <= where the description says maximum or maxLength, and count Unicode code points.",
		"HTTP/1.1 201 Created"},
	{"changed-state", Error, "a request was rejected, and yet the resource changed", "RFC 9110, section 15.5", Independent | PerOperation,
		"The resource was read before and after a rejected request, and the second reading differs from the first. It was tried twice.",
		"What changes by itself between two readings, and lists that come in another order. It is told only if it happens a second time.",
		"The client is told that nothing happened, although something did: half of a change is stored.",
		"Check everything before the first write, or write inside a transaction that a rejection rolls back.",
		fieldAnswer},
	{"rejected-but-stored", Error, "a creation was rejected, and yet its record is there", "RFC 9110, section 15.5", Independent | PerOperation,
		"After the operation was tried, the list of its collection, or GET of the name that the request chose, shows a value that was sent in this one request and nowhere else, in the place where it was sent.",
		"A record that says of itself, in a member such as status, that it was refused, as a declined payment does; requests that were refused as duplicates, and bodies that are lists of records.",
		"The client corrects its request and sends it again: now there are two records, and one of them breaks the rules.",
		"Check everything before the first write, or write inside a transaction that a rejection rolls back.",
		fieldAnswer},
	{"redirected", Error, "a flawed request was answered with a redirect", "RFC 9110, section 15.4", Independent | OfForm,
		"The answer is a 3xx where a rejection belongs.",
		"A 3xx in answer to a valid request: that is not-reached.",
		"A client that follows it ends on a page, usually with 200, and believes that the request succeeded.",
		"Answer API requests with a 4xx problem document; keep redirects to pages for browsers. A redirect that only corrects the path comes from the router: give the canonical path in the description.",
		plainAnswer},
	{"wrong-status", Error, "the status is not the one for this sort of flaw", "RFC 9110, section 15.5", Answers | Departs | PerFamily,
		"The request was rejected with a 4xx that means something else.",
		"A status among those that the standards allow for the flaw, or that statuses: in obiter.yaml gives: 400 or 422 for a field (RFC 9110, sections 15.5.1 and 15.5.21), 400, 422 or 404 for what is in the path. 404 in place of 405 is a warning (sections 9.1 and 15.5.5), and so is a rejection of the content, for then the service has the method that the description lacks; a 409 that is not about the flaw is conflict.",
		"Clients decide by the status: 404 makes them look for the record, 401 log in again, and 422 for broken JSON looks for a field.",
		"400 for what cannot be read, 400 or 422 for what breaks a rule, 415 for the media type, 405 for the method, 404 only for what does not exist.",
		fieldAnswer},
	{"missing-header", Error, "a header that this status requires is missing", "RFC 9110, sections 10.2.1 and 11.6.1", Independent | OfForm,
		"A 405 has to list the allowed methods in Allow, a 401 to name a scheme in WWW-Authenticate.",
		"Any other status: Allow is due with 405 (RFC 9110, section 15.5.6) and WWW-Authenticate with 401 (section 15.5.2).",
		"Clients and libraries need these headers to continue.",
		"Let the router write Allow, and the authentication layer WWW-Authenticate.",
		"HTTP/1.1 405 Method Not Allowed\nAllow: GET, POST"},
	{"not-problem", Error, "the rejection is not a problem document", "RFC 9457, section 3", Independent | OfForm | OfWriting | Departs,
		"The answer's media type is not application/problem+json or application/problem+xml; nor the one of errors: in obiter.yaml, where the API has a layout of its own on purpose.",
		"Where errors: { media_type: … } in obiter.yaml says that the API has a layout of its own. Successes are not looked at.",
		"A client cannot tell a problem document from any other JSON, so it needs code of its own for this service.",
		"Send the media type from every layer: validation, router, authentication, and the final error handler.",
		fieldAnswer},
	{"unreadable", Error, "no problem could be read from the rejection", "RFC 9457, section 3", Independent | OfForm | OfWriting | Departs,
		"The body is not what its media type says: broken JSON or XML, a list, nothing.",
		"Answers that are no problem documents by their media type: that is not-problem alone. A document that is longer than is read is told as such.",
		"Clients fail while they handle the failure.",
		"Write the document with a serialiser, one object per response.",
		plainAnswer},
	{"bad-encoding", Error, "the answer's JSON is not UTF-8", "RFC 8259, section 8.1", Independent | OfForm | OfWriting | Departs,
		"The answer says that it is JSON, and its bytes are not UTF-8. Usually a text was cut in the middle of a character, or what the client sent comes back unchecked.",
		"A byte order mark (RFC 8259, section 8.1, lets readers ignore it): that is weak-problem.",
		"Strict readers refuse the whole answer; others show replacement characters where the reason should be.",
		"Shorten texts by characters, not by bytes, and write the answer with a serialiser.",
		fieldAnswer},
	{"bad-member", Error, "a member of the problem document has the wrong form", "RFC 9457, section 3.1", Independent | OfForm | OfWriting | Departs,
		"type and instance are URI references, title and detail strings, status is a number from 100 to 599.",
		"Extension members, and members that are left out: all are optional (RFC 9457, section 3.1).",
		"Readers must ignore members of the wrong type, so what they say is lost.",
		"Map the members one by one; put everything else into extension members.",
		fieldAnswer},
	{"status-mismatch", Error, "the status member is not the HTTP status", "RFC 9457, section 3.1.2", Independent | OfForm | OfWriting,
		"The member status says another number than the status line.",
		"A document without the member status.",
		"Readers differ on which of the two to believe.",
		"Fill the member from the response, or leave it out.",
		`"status": 422`},
	{"no-field-errors", Error, "nothing machine-readable names the field that was wrong", "RFC 9457, section 3", 0,
		"A field was wrong, and no member of the answer names any field. If a sentence names it, the finding says so.",
		"Flaws of the body or the request as a whole; rejections that look at no field (404, 405, 415, a conflict of the record); a rule of an object that is told of the object. Not told where the valid request was refused.",
		"A form cannot show the message in the right place; clients start to parse sentences.",
		"List the errors in an extension member, each with a pointer and a detail.",
		fieldAnswer},
	{"missed-field", Error, "the answer has field errors, but not for the invalid field", "RFC 9457, section 3", 0,
		"The answer names fields, but not the invalid one.",
		"Names that tell of the field in any notation and spelling, of something inside it, or, for the rules that allow it, of the object around it. Inside a oneOf or anyOf the place of the alternatives is as good.",
		"The user corrects what was right.",
		"Report each error where it is; map the names of the inner model back to those of the request.",
		fieldAnswer},
	{"one-at-a-time", Error, "several fields are invalid, but only some are reported", "RFC 9457, section 3", 0,
		"Several fields broke rules of one stage, and the answer names only some. What a decoder stops at, and rules that wait for others, are not counted.",
		"A flaw that was not rejected and named by itself in the same run; what a decoder stops at before limits are looked at; what is inside an alternative whose tag is wrong too.",
		"The client needs as many round trips as there are errors.",
		"Collect the errors of a stage before answering.",
		twoFields},
	{"wrong-field", Error, "a field that was right is blamed", "", 0,
		"An error is reported at a field that obeys every rule of the description, such as the same field of another list entry.",
		"The body as a whole, named in addition; what other branches of a oneOf or anyOf miss; a field that a rule of obiter.yaml lets be blamed.",
		"The user changes what was right.",
		"Report a rule between two fields at the one to be changed; or write the rule into the description, if it is one.",
		fieldAnswer},
	{"broken-pointer", Error, "what should be a JSON Pointer points to nothing", "RFC 6901, section 4; RFC 9457, section 3", 0,
		"The member pointer does not hold a JSON Pointer, or holds one that resolves to nothing in the request: without an array index, for example, or in another spelling.",
		"Names that are not written as pointers; a plain pointer where a fragment is usual. What all names begin with is foreign-path, once.",
		"Clients that resolve it get nothing.",
		"Build it from the segments of the path: / before each, ~1 for /, ~0 for ~; with # before it as a fragment.",
		`"pointer": "#/crew/0/rank"`},
	{"odd-layout", Error, "the answer is laid out differently from the rest of the API", "RFC 9457, section 3", Independent | OfWriting,
		"Most rejections of this API have one layout; these have another. What is of another media type than problem documents, or the configured one, is reported as not-problem alone.",
		"Fewer than five answers, or no layout that three in five have; an extra member; null or an empty list in place of anything. Fields that are the members themselves have no layout, and parameters may be named in a member of their own.",
		"Clients need code for each layout, and discover the second one in production.",
		"Let every layer answer through the same function, the router's and the decoder's errors too.",
		fieldAnswer},
	{"vague-field", Warning, "the field is named imprecisely", "RFC 9457, section 3", 0,
		"The object is named instead of the field in it, or a name that is no JSON Pointer lacks an array index or is spelt differently from the request.",
		"Header names in any case (RFC 9110, section 5.1); the object around a member that is not allowed in it.",
		"In a list of thirty, nobody knows which entry is meant.",
		"Name the full path, with indexes, as the request spells it.",
		`"pointer": "#/crew/0/rank"`},
	{"empty-message", Warning, "a field error without words", "RFC 9457, section 3.1.4", Departs,
		"A field is named, but nothing says what is wrong with it.",
		"Any words, in any member of the entry.",
		"The client can mark the field, but cannot help.",
		"Say in detail what would be right.",
		`{ "pointer": "#/name", "detail": "must have at least 2 characters" }`},
	{"wrong-message", Error, "the message is not the one that the configuration requires", "", 0,
		"The configuration says what the message must match (says: of a rule, or messages:), but it does not.",
		"Where nothing in the configuration says what the message must be, and where the field is not named, which is reported as that.",
		"Where wording is part of the contract, clients and translations rely on it.",
		"Correct the message, or the configuration.",
		`says: digit`},
	{"undocumented", Warning, "the answer is not the documented one", "OpenAPI 3.1.1, section 4.8.16", Independent | OfForm | OfWriting,
		"The status, the media type or the body is not what the description documents for the operation.",
		"Operations that document no answers; a default or a class such as 4XX; null where OpenAPI 3.0 is murky; what the server answers before any operation (RFC 9110, sections 15.5.5 and 15.5.6). What is wrong with the answer otherwise is told as that alone.",
		"Generated clients cannot read the answer.",
		"Document the rejection once under components/responses and refer to it as 4XX or default; or correct the answer.",
		"4XX:\n  $ref: '#/components/responses/Problem'"},
	{"weak-problem", Warning, "the problem document does not follow a recommendation", "RFC 9457", Independent | OfForm | OfWriting,
		"A relative type, a title of its own under about:blank, neither title nor type, an extension member with an odd name, a byte order mark, a duplicate member.",
		"type about:blank with the status's own phrase for a title (RFC 9457, section 4.2.1), and no type at all.",
		"Each works with some readers but not with others, or tells them nothing.",
		"Give each problem an absolute type URI and one title.",
		fieldAnswer},
	{"title-drift", Warning, "one problem type has several titles or statuses", "RFC 9457, sections 3.1.3 and 4", Independent | OfWriting,
		"The title is the same for each occurrence of a type, and a type belongs to one status.",
		"Answers with a wrong status, which is reported. One title under several types is only a note.",
		"Clients that compare or translate by type show the wrong words.",
		"Define each type once, with its title and status, and put what is specific into detail.",
		`"type": "https://harbour.example/problems/invalid-fields", "title": "Fields are invalid"`},
	{"odd-status", Warning, "the same sort of flaw is answered with another status than elsewhere", "RFC 9110, section 15.5", Independent,
		"Both statuses are right by themselves, but the API mostly uses the other one.",
		"Sorts of flaws for which only one status is right; fewer than five answers, or no status that three in five have.",
		"Clients have to handle both. Often another layer answers, such as a decoder before the validation.",
		"Choose one status for each sort of flaw, and let the decoder's errors use it as well.",
		fieldAnswer},
	{"slow-rejection", Warning, "a rejection takes far longer than a success", "", Independent | PerFamily,
		"It took more than a second, and more than twenty times as long as the valid request. It was tried three times.",
		"What is slow once: the fastest of three counts. It must take more than a second, and twenty times as long as the valid request.",
		"Cheap requests that cost a lot are a way to take a service down; often a pattern backtracks, or work is done before the check.",
		"Check first, work later; avoid nested repetition in patterns.",
		fieldAnswer},
	{"unstable", Warning, "the same request was answered in two ways", "", Independent | PerOperation,
		"A rejected request was sent again, and the second answer has another status or names other fields; or the service failed (5xx) at a request while others were in flight, and not when it was sent again with none.",
		"Times, numbers and texts that differ: status, media type, problem type, and whether the field is named are compared. 429 and 503 are no second answer.",
		"What cannot be repeated is hard to fix; often an unordered map decides which error is reported first.",
		"Report all errors, in a fixed order.",
		twoFields},
	{"foreign-path", Note, "names of fields are not paths into the request", "RFC 6901, section 4", Independent,
		"All names in one place begin with something that the request does not have, such as /data/attributes, or count the entries of lists from 1. Obiter reads them so, and judges the rest of the name.",
		"A word that stands for the body or the place of a parameter (body, data, $, query), which many write.",
		"A client has to know the convention before it can find the field.",
		"Leave the prefix out, and count from 0. If it is meant so, errors: in obiter.yaml can say it (prefix, first_index).",
		`"pointer": "#/crew/0/rank"`},
	{"not-reached", Note, "an operation was not reached", "", Independent | Unproves | PerOperation,
		"Its valid request was refused for a reason that lies in made-up values, missing records, a state or credentials, which no description can hold. The service is not accused of anything; what else the operation rejects proves nothing.",
		"It is never an error of the service.",
		"The operation is not tested.",
		"Read the service's own words, and give what it asks for: credentials, a fixture, existing records in the examples of path parameters, or a body in obiter.yaml.",
		"HTTP/1.1 201 Created"},
	{"unexplained-refusal", Note, "a captured request that the description calls valid was refused", "", Independent | Unproves | PerOperation,
		"A request out of a capture obeys every rule of the description, and the service refused it: for a record, for credentials, for the state of things, or by a rule that the description does not have.",
		"It is never an error of the service, but where that answers a valid request with 5xx, 405 or 415.",
		"Clients cannot know a rule that nobody describes.",
		"Read the service's own words. If they tell a rule, write it into the description, or as rules: into obiter.yaml.",
		"x-obiter-rules:\n  - holds: body.departs_at > body.arrives_at\n    blames: /departs_at"},
	{"conflict", Note, "the answer is about what is there, not about the request", "RFC 9110, section 15.5.10", Unproves | PerOperation,
		"A 409 that does not name the flawed field: a record made by an earlier request is in the way. Or a boundary value of a field that names a record was refused, for there is no such record.",
		"Where 409 is right for the rule, as for a value that is taken.",
		"Whether the service enforces the rule stays open.",
		"Say in obiter.yaml which fields are unique and which must exist, and Obiter fills them accordingly.",
		"rules:\n  - unique: /call_sign"},
	{"blank-text", Note, "what becomes of blank text", "", PerFamily,
		"A string of spaces was sent where the description wants something, or an empty string in a list: the schema allows both, and services differ. The note tells what this one does: it stores them as they are, trims them, or refuses them.",
		"Where not_blank: or trimmed: in obiter.yaml says what is right, a departure from it is an error of its own.",
		"Names of nothing but spaces are seldom meant, and most often found when they are in the data.",
		"Decide for all fields alike: trim and refuse what is empty then, and say so in the description, for example with pattern: '\\S'.",
		"rules:\n  - not_blank: /name"},
	{"not-judged", Note, "a case was not judged", "", Independent | Unproves | OfForm,
		"The request was not sent, because no connection came about or it cannot be written; or the answer nests deeper, or holds a number with more digits, than Obiter reads. Nothing is said of the service.",
		"It is never an error of the service. An answer that is not JSON at all is unreadable.",
		"The rule was not tested.",
		"Where no connection came about, send fewer requests at a time (--parallel), or allow the program more open files (ulimit -n). Where an answer is beyond what is read, look at it: obiter show.",
		"{ \"detail\": \"nests no deeper than 512\" }"},
}

// Find is the entry of a code; false if there is none.
func Find(code string) (Code, bool) {
	for _, c := range Codes {
		if c.Code == code {
			return c, true
		}
	}
	return Code{}, false
}

// Has reports whether findings of a code have a trait.
func Has(code string, t Trait) bool {
	c, ok := Find(code)
	return ok && c.Traits.Has(t)
}

// Rank orders codes from the most serious.
func Rank(code string) int {
	for i, c := range Codes {
		if c.Code == code {
			return i
		}
	}
	return len(Codes)
}

// CodeNames are the codes of all findings.
func CodeNames() []string {
	var out []string
	for _, k := range Codes {
		out = append(out, k.Code)
	}
	return out
}
