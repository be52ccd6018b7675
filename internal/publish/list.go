package publish

import (
	"time"

	"morvant/internal/catalogue"
	"morvant/internal/strict"
)

// List is what to publish, as people write it down in a TOML file.
type List struct {
	Feed       string          `toml:"feed"`
	Game       string          `toml:"game"`
	SignIn     string          `toml:"sign_in"`
	Days       int             `toml:"days"` // how long the catalogue is valid
	Components []ListComponent `toml:"component"`
	Channels   []ListChannel   `toml:"channel"`
	Builds     []ListBuild     `toml:"build"`
}

// ListComponent is a component in a List.
type ListComponent struct {
	Name     string   `toml:"name"`
	Title    string   `toml:"title"`
	Required bool     `toml:"required"`
	Files    []string `toml:"files"`
}

// ListChannel is a channel in a List.
type ListChannel struct {
	Name   string `toml:"name"`
	Locked bool   `toml:"locked"`
}

// ListBuild is a build in a List.
type ListBuild struct {
	From    string    `toml:"from"`  // any name of a build here
	Label   string    `toml:"label"` // empty: its own
	Channel string    `toml:"channel"`
	Date    time.Time `toml:"date"` // zero: its own
	Note    string    `toml:"note"` // empty: its own
}

// ParseList reads a List. Unknown keys are errors, with their line.
func ParseList(b []byte) (*List, error) {
	l := &List{}
	if err := strict.Decode(b, l); err != nil {
		return nil, err
	}
	return l, nil
}

// Rules returns the components as rules.
func (l *List) Rules() []Rule {
	var list []Rule
	for _, c := range l.Components {
		list = append(list, Rule{Component: catalogue.Component{Name: c.Name, Title: c.Title, Required: c.Required}, Files: c.Files})
	}
	return list
}
