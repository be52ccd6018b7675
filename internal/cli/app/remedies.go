package app

import (
	"strings"

	"morvant/internal/problem"
)

// remedies says which command each remedy is.
var remedies = map[problem.Remedy]string{
	problem.ShowBlock:     "morvant block --show",
	problem.WaitAgain:     "morvant let-update",
	problem.Repair:        "morvant verify --repair",
	problem.RecoverBuilds: "morvant store check --recover-builds",
	problem.MendStore:     "morvant store check",
	problem.RefreshFeeds:  "morvant feed refresh",
	problem.AdoptFolder:   "morvant lane new --adopt",
	problem.OutputOf:      "morvant history output",
}

// Commands puts commands in the place of the remedies that a message of the core names.
func Commands(text string) string {
	for r, command := range remedies {
		text = strings.ReplaceAll(text, string(r), command)
	}
	return text
}
