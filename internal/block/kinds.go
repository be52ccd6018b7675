package block

import (
	"fmt"
	"slices"
	"strings"

	"morvant/internal/edit"
	"morvant/internal/keyed"
)

// setting is a value in the launcher's own settings.
type setting struct{}

func (setting) check(r Rule) string {
	switch {
	case r.File == "" || r.Set == "" || (r.Find == "") == (r.Key == ""):
		return "file, set, and either find or format and key are needed"
	case r.Count < 0 || r.Path != "" || r.Immutable || r.Key != "" && r.Count != 0 || r.Find != "" && r.Format != "":
		return "it may have file, find, set and count, or file, format, key and set, and nothing else"
	case r.Key != "" && !slices.Contains(keyed.Formats(), keyed.Format(r.Format)):
		return fmt.Sprintf("there is no format \"%s\"; use %s", r.Format, listFormats())
	}
	var err error
	if r.Key != "" {
		_, err = keyed.ParsePath(r.Key)
	} else {
		_, err = edit.Compile(r.Find)
	}
	if err != nil {
		return err.Error()
	}
	return ""
}

func listFormats() string {
	var names []string
	for _, f := range keyed.Formats() {
		names = append(names, string(f))
	}
	return strings.Join(names, ", ")
}

func (setting) describe(r Rule) string {
	if r.Key != "" {
		return fmt.Sprintf("sets %s to \"%s\" in %s, so that the launcher itself holds back", r.Key, r.Set, r.File)
	}
	return fmt.Sprintf("sets \"%s\" in %s, so that the launcher itself holds back", r.Set, r.File)
}

func (setting) watched(r Rule, at Site) string { return at.resolve(r.File) }

func (setting) prepare(h *Applied, at Site) error { return h.prepareSetting(at) }

func (setting) set(h *Applied, _ Site) error { return h.setSetting() }

func (setting) state(h *Applied, _ Site) (string, string) { return h.checkSetting(), "" }

func (setting) lift(h *Applied, _ Site, force bool) error { return h.liftSetting(force) }

func (setting) byHand(h *Applied) string {
	if h.Missing {
		return fmt.Sprintf("%s was not in %s; Morvant added it with the value \"%s\": remove it there", h.Rule.Key, h.Path, h.Rule.Set)
	}
	found := `"` + strings.Join(h.Values, `" "`) + `"` // in their order
	return fmt.Sprintf("in %s it was %s, and Morvant set it to \"%s\": change it back there", h.Path, found, h.Rule.Set)
}

// readOnly is files that cannot be written.
type readOnly struct{}

func (readOnly) check(r Rule) string {
	if r.File != "" || r.Find != "" || r.Set != "" || r.Count != 0 || r.Path != "" || r.Format+r.Key != "" {
		return "it may have immutable, and nothing else"
	}
	return ""
}

func (readOnly) describe(r Rule) string {
	if r.Immutable {
		return "makes the build's files read-only and immutable, so that an updater cannot replace or remove them"
	}
	return "makes the build's files read-only, so that an updater cannot change them in place"
}

func (readOnly) watched(Rule, Site) string { return "" }

func (readOnly) prepare(h *Applied, at Site) error { return h.prepareReadOnly(at) }

func (readOnly) set(h *Applied, at Site) error { return h.setReadOnly(at) }

func (readOnly) state(h *Applied, at Site) (string, string) { return h.checkReadOnly(at), "" }

func (readOnly) lift(h *Applied, at Site, _ bool) error { return h.liftReadOnly(at) }

func (readOnly) byHand(h *Applied) string {
	return fmt.Sprintf("%d files of the game were writable before", len(h.Modes))
}

// occupy is a path that is taken.
type occupy struct{}

func (occupy) check(r Rule) string {
	if r.Path == "" || r.File != "" || r.Find != "" || r.Set != "" || r.Count != 0 || r.Immutable || r.Format+r.Key != "" {
		return "it may have path, and nothing else"
	}
	return ""
}

func (occupy) describe(r Rule) string {
	return fmt.Sprintf("blocks %s with an empty file, so that an updater cannot put its downloads there", r.Path)
}

func (occupy) watched(r Rule, at Site) string { return at.resolve(r.Path) }

func (occupy) prepare(h *Applied, at Site) error { return h.prepareOccupy(at) }

func (occupy) set(h *Applied, _ Site) error { return h.setOccupy() }

func (occupy) state(h *Applied, _ Site) (string, string) { return h.checkOccupy() }

func (occupy) lift(h *Applied, _ Site, force bool) error { return h.liftOccupy(force) }

func (occupy) byHand(h *Applied) string {
	if h.Aside != "" {
		return fmt.Sprintf("Morvant blocks %s; what was there before is in %s: move it back", h.Path, h.Aside)
	}
	return fmt.Sprintf("Morvant blocks %s, where nothing was before: remove the file there", h.Path)
}
