package verb

// Delay is the name of the setting by which a replica holds writes back on
// purpose, in seconds; the engines call it differently.
const Delay = "delay"

// TrimArgs says up to which file, itself kept, a log is cut off.
type TrimArgs struct {
	To string `json:"to"`
}

// SetArgs changes one setting of a running server, so that it lasts.
type SetArgs struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}
