package view

import (
	"path/filepath"
	"time"

	"morvant/internal/saves"
)

// BackupJSON is a backup of saves in documents.
type BackupJSON struct {
	Backup int64     `json:"backup"`
	Date   time.Time `json:"date"`
	Lane   string    `json:"lane"`
	Build  string    `json:"build,omitempty"`
	Why    string    `json:"why"`
	Files  int       `json:"files"`
	Bytes  int64     `json:"bytes"`
	Doubt  string    `json:"doubt,omitempty"` // why it may not be whole
	// Places are the folders; relative ones lie inside the lane.
	Places []string `json:"places"`
}

// ToBackupJSON makes it.
func ToBackupJSON(b *saves.Backup) BackupJSON {
	j := BackupJSON{Backup: b.ID, Date: b.Made, Lane: b.Lane, Build: b.Build, Why: b.Why, Files: b.Files, Bytes: b.Bytes, Doubt: b.Doubt, Places: []string{}}
	for _, p := range b.Parts {
		j.Places = append(j.Places, filepath.Join(p.Path, p.Only))
	}
	return j
}

// NumberOf returns the number of a backup; 0 for none.
func NumberOf(b *saves.Backup) int64 {
	if b == nil {
		return 0
	}
	return b.ID
}
