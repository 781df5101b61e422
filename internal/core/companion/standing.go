package companion

// A Standing is how a companion stands.
type Standing string

// The standings.
const (
	Answering Standing = "answers"
	Failing   Standing = "fails"
	UsedUp    Standing = "used up"
	Off       Standing = "off"
	Unasked   Standing = "not asked yet"
)
