package view

import (
	"time"

	"morvant/internal/catalogue"
	"morvant/internal/feed"
)

type channelJSON struct {
	Channel string `json:"channel"`
	Locked  bool   `json:"locked"`
	Open    bool   `json:"open"` // it can be read
	Builds  int    `json:"builds"`
}

// FeedJSON is a feed in documents.
type FeedJSON struct {
	Feed      string        `json:"feed"`
	Addresses []string      `json:"addresses"`
	Key       string        `json:"key"`
	Serial    int64         `json:"serial"`
	Expires   time.Time     `json:"expires"`
	Refreshed time.Time     `json:"refreshed"`
	SignIn    bool          `json:"sign_in"` // it asks for it
	SignedIn  bool          `json:"signed_in"`
	User      string        `json:"user,omitempty"`
	Channels  []channelJSON `json:"channels"`
	Adapter   string        `json:"adapter,omitempty"` // the program that speaks for it
}

// ToFeedJSON makes it.
func ToFeedJSON(f *feed.Feed) (FeedJSON, error) {
	j := FeedJSON{Feed: f.Name, Addresses: f.Addresses, Key: f.Key, Refreshed: f.Refreshed, Adapter: f.Adapter, Channels: []channelJSON{}}
	d, err := f.Described()
	if err != nil {
		return j, err
	}
	j.Serial, j.Expires, j.SignIn = d.Serial, d.Expires, d.SignIn != nil
	j.User, j.SignedIn = f.SignedIn()
	channels, err := f.Channels()
	if err != nil {
		return j, err
	}
	for _, line := range d.Channels {
		out := channelJSON{Channel: line.Name, Locked: line.Locked}
		for _, ch := range channels {
			if ch.Channel == line.Name {
				out.Open, out.Builds = true, len(ch.Builds)
			}
		}
		j.Channels = append(j.Channels, out)
	}
	return j, nil
}

// PrintableName is a name that a feed gives itself, as far as it can be shown.
func PrintableName(s string) string {
	if catalogue.CheckText(s) != nil {
		return "?"
	}
	return s
}
