package contract

// Code is why a call failed, in a problem of RFC 9457: a word for programs, beside the words for people.
type Code string

// The codes of problems.
const (
	BadRequest      Code = "bad-request"       // 400: a parameter or the body is wrong in itself
	BadMessage      Code = "bad-message"       // 400: what an agent sent cannot be read
	NotSignedIn     Code = "not-signed-in"     // 401: the caller is not known
	AgentDenied     Code = "agent-denied"      // 401: the agent is not let in; the words say what to do on the host
	NotAllowed      Code = "not-allowed"       // 403: the caller is known, and lacks a right
	NotFound        Code = "not-found"         // 404: there is no such thing
	Conflicting     Code = "conflict"          // 409: it is against what is so now
	RolloutBusy     Code = "rollout-busy"      // 409: a rollout is under way
	HostUnreachable Code = "host-unreachable"  // 409: the host cannot be asked now
	Meanwhile       Code = "changed-meanwhile" // 412: it was changed since the caller read it
	TooLarge        Code = "too-large"         // 413: the body is larger than its bound
	HasFindings     Code = "findings"          // 422: there are findings of severity error
	HostRefused     Code = "host-refused"      // 422: the host will not, or cannot
	// 429: too many requests with this credential at once; Retry-After says when
	Busy     Code = "busy"
	Internal Code = "internal" // 500 or 503: the service could not; its log says why
)
