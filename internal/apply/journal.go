package apply

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strconv"
	"strings"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/problem"
	"morvant/internal/scan"
	"morvant/internal/volume"
)

const journalFormat = "morvant-journal/1"

// Errors of a journal that cannot be used.
var (
	ErrJournal = errors.New("the record of an unfinished change is damaged")
)

// maxJournal bounds a journal that is read, in bytes.
const maxJournal = 1 << 30

// journal is what is written down before the first file moves. On disk it is one
// line with the BLAKE3 digest of all that follows, then JSON.
type journal struct {
	Format string `json:"format"`
	ID     string `json:"id,omitempty"` // of Job; journals of old versions have none
	Origin
	Memo  json.RawMessage `json:"memo"`
	Steps []step          `json:"steps"`
	// Locked are folders that are read-only, and opened for the change, with their modes.
	Locked map[string]fs.FileMode `json:"locked,omitempty"`

	places map[string]int // the number of each step by path
}

// step is a step of the plan with the stamp of the file it displaces.
type step struct {
	plan.Step
	Stamp *scan.Stamp `json:"stamp,omitempty"`
}

func newJournal(job Job) *journal {
	j := &journal{Format: journalFormat, ID: job.ID, Origin: job.By, Memo: job.Memo, Steps: make([]step, len(job.Plan.Steps))}
	for i, s := range job.Plan.Steps {
		j.Steps[i] = step{Step: s}
		if e := job.Tree.Entry(s.Path); e != nil && s.Displaces() && s.Before.Kind == plan.File {
			j.Steps[i].Stamp = &e.Stamp
		}
	}
	j.Locked = lockedFolders(job)
	j.index()
	return j
}

func (j *journal) index() {
	j.places = make(map[string]int, len(j.Steps))
	for i := range j.Steps {
		j.places[j.Steps[i].Path] = i
	}
}

func fresh(i int) string { return path.Join(newDir, strconv.Itoa(i)) }
func old(i int) string   { return path.Join(oldDir, strconv.Itoa(i)) }

// source is where the content that step i places comes from.
func (j *journal) source(i int) string {
	if from := j.Steps[i].From; from != "" {
		return old(j.places[from])
	}
	return fresh(i)
}

// write brings the journal to disk, twice; the change starts with the second name.
func (j *journal) write(root *os.Root) error {
	body, err := json.Marshal(j)
	if err != nil {
		return err
	}
	b := append([]byte(digest.Of(body).String()+"\n"), body...)
	for _, name := range journals {
		if err := volume.ReplaceIn(root, path.Join(changeDir, name), b, 0o644); err != nil {
			return err
		}
	}
	return volume.SyncIn(root, manifest.PrivateDir)
}

// journals are the names of the journal; the change starts with the last.
var journals = []string{"journal.2", "journal"}

// readJournal returns the first copy that can be read. fs.ErrNotExist says that there is
// none at all.
func readJournal(root *os.Root) (*journal, error) {
	j, err := readJournalFile(root, "journal")
	if err == nil || errors.Is(err, problem.ErrNewer) {
		return j, err
	}
	second, otherErr := readJournalFile(root, "journal.2")
	switch {
	case otherErr == nil:
		return second, nil
	case volume.Absent(err):
		return nil, otherErr
	}
	return nil, err
}

func readJournalFile(root *os.Root, name string) (*journal, error) {
	b, err := volume.ReadIn(root, path.Join(changeDir, name), maxJournal)
	if err != nil {
		return nil, err
	}
	return decodeJournal(b)
}

func decodeJournal(b []byte) (*journal, error) {
	sum, body, found := bytes.Cut(b, []byte("\n"))
	if want, err := digest.Parse(string(sum)); !found || err != nil || digest.Of(body) != want {
		return nil, ErrJournal
	}
	j := &journal{}
	if err := json.Unmarshal(body, j); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrJournal, err)
	}
	if j.Format != journalFormat {
		if strings.HasPrefix(j.Format, "morvant-journal/") {
			return nil, fmt.Errorf("journal of format \"%s\": %w", j.Format, problem.ErrNewer)
		}
		return nil, fmt.Errorf("%w: format \"%s\"", ErrJournal, j.Format)
	}
	j.index()
	for i := range j.Steps {
		s := &j.Steps[i]
		if err := s.Check(); err != nil {
			return nil, fmt.Errorf("%w: %v", ErrJournal, err)
		}
		if s.From != "" {
			if from, ok := j.places[s.From]; !ok || !j.Steps[from].Displaces() {
				return nil, fmt.Errorf("%w: a move from nowhere", ErrJournal)
			}
		}
	}
	if len(j.places) != len(j.Steps) {
		return nil, fmt.Errorf("%w: a path appears twice", ErrJournal)
	}
	return j, nil
}
