package problem

// A Remedy is something that somebody can do, in words that stand in the middle of a
// sentence. The command line puts the command in their place.
type Remedy string

// The remedies that messages of the core speak of.
const (
	ShowBlock     Remedy = "what the block says of itself"
	WaitAgain     Remedy = "another wait for the update"
	Repair        Remedy = "a repair of the lane"
	RecoverBuilds Remedy = "a check of the store that looks for builds"
	MendStore     Remedy = "mending the store"
	RefreshFeeds  Remedy = "a refresh of the feeds"
	AdoptFolder   Remedy = "taking the folder as a lane"
	// OutputOf is followed by the number of a change.
	OutputOf Remedy = "the output of change"
)

// Remedies lists all of them.
func Remedies() []Remedy {
	return []Remedy{ShowBlock, WaitAgain, Repair, RecoverBuilds, MendStore, RefreshFeeds, AdoptFolder, OutputOf}
}
