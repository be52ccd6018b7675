// Package trial goes through the protocol with an adapter, for its author: it checks every answer against the
// schemas and the rules, fetches one small file, and says what is wrong in words.
package trial

import (
	"cmp"
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/google/jsonschema-go/jsonschema"

	"morvant/internal/adapter"
	"morvant/internal/alias"
	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/feed/fetch"
	"morvant/internal/feed/listing"
	"morvant/internal/manifest"
	"morvant/internal/store"
)

//go:embed morvant-adapter-1.json
var schemas []byte

// Step is a part of the trial.
type Step struct {
	Name string
	Said string // what came of it
	Err  error  // nil: it is as it should be
}

// Report is what a trial came to.
type Report struct {
	Steps []Step
	// Wrong lists what is against the protocol, and Odd what is allowed and makes trouble.
	Wrong, Odd []string
	// Log is the end of what the adapter wrote to its standard error.
	Log string
}

// OK reports whether nothing is wrong.
func (r *Report) OK() bool {
	return len(r.Wrong) == 0 && !slices.ContainsFunc(r.Steps, func(s Step) bool { return s.Err != nil })
}

// Request says what to try.
type Request struct {
	Program, Address string
	Programs         string // the folder of adapters that are called by name
	Game             string
	Record           *adapter.Recorder // nil: nothing is recorded
	All              bool              // every manifest is read, not only some
}

// Run tries an adapter. An error is about this computer; what is wrong with the adapter stands in the report.
func Run(ctx context.Context, q Request, o feed.Options) (*Report, error) {
	dir, err := os.MkdirTemp("", "morvant-adapter-try-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	w, err := newWatcher()
	if err != nil {
		return nil, err
	}
	var log adapter.Tail
	o.Log = &log
	o.Watch = func(sent bool, line []byte) {
		w.watch(sent, line)
		if q.Record != nil {
			q.Record.Watch(sent, line)
		}
	}
	if o.Reading = listing.Sample; q.All {
		o.Reading = listing.Every
	}
	r := &Report{}
	r.run(ctx, q, dir, o)
	r.Wrong, r.Odd, r.Log = append(r.Wrong, w.wrong...), append(r.Odd, w.odd...), log.String()
	if q.Record != nil {
		return r, q.Record.Err()
	}
	return r, ctx.Err()
}

// step adds a step, and reports whether it went well.
func (r *Report) step(name, said string, err error) bool {
	r.Steps = append(r.Steps, Step{name, said, err})
	return err == nil
}

func (r *Report) run(ctx context.Context, q Request, dir string, o feed.Options) {
	f, err := feed.AddByAdapter(ctx, feed.Adding{Base: filepath.Join(dir, "feeds"), Addresses: []string{q.Address}}, q.Program, q.Programs, q.Game, o)
	if !r.step("start, initialize, builds", "", err) {
		return
	}
	f.Known = alias.At(filepath.Join(dir, "aliases.db"))
	defer f.Known.Close()
	d, err := f.Described()
	if !r.step("name", "it calls itself "+d.Name, err) {
		return
	}
	channels, err := f.Channels()
	if err == nil && len(channels) == 0 && d.SignIn != nil {
		who, signErr := f.SignInByAdapter(ctx, "", o)
		if !r.step("signIn", "signed in as "+who, signErr) {
			return
		}
		channels, err = f.Channels()
	}
	if err != nil || len(channels) == 0 {
		r.step("builds", "", errors.Join(err, errors.New("no channel could be read")))
		return
	}
	for _, c := range channels {
		r.builds(f, c)
	}
	if strings.HasPrefix(q.Program, adapter.Recording) {
		r.step("content", "a recording has no content to fetch", nil)
		return
	}
	r.fetch(ctx, f, channels, dir, o)
}

// builds looks at what is listed.
func (r *Report) builds(f *feed.Feed, c *catalogue.Channel) {
	nameless, told, lacking := 0, make(map[digest.Digest]bool), make(map[digest.Digest]bool)
	var files, unchecked, weak int
	for _, b := range c.Builds {
		if catalogue.OfDate(b.Label, b.Date) {
			nameless++
		}
		if err := f.Shared(b); err != nil {
			r.Wrong = append(r.Wrong, err.Error())
		}
		for _, p := range b.Components {
			if told[p.Manifest] || lacking[p.Manifest] {
				continue
			}
			t, err := f.Told(p.Manifest)
			if err != nil {
				lacking[p.Manifest] = p.Refused != ""
				continue
			}
			told[p.Manifest] = true
			for i := range t.Manifest.Files {
				file := &t.Manifest.Files[i]
				if file.Size == 0 {
					continue
				}
				files++
				if t.Ground(file) == adapter.Unchecked {
					unchecked++
				} else if file.Forgeable() {
					weak++
				}
			}
		}
	}
	maps.DeleteFunc(lacking, func(_ digest.Digest, refused bool) bool { return !refused })
	r.step("builds of "+c.Channel, fmt.Sprintf("%d builds, %d of them without a label, %d manifests read", len(c.Builds), nameless, len(told)), nil)
	if len(lacking) > 0 {
		r.Odd = append(r.Odd, fmt.Sprintf("%d manifests of %s did not come: the account does not own them, or the distributor has dropped them", len(lacking), c.Channel))
	}
	if unchecked > 0 {
		r.Odd = append(r.Odd, fmt.Sprintf("%d of %d files have no digest: they can be fetched only with --unchecked, and are never found here", unchecked, files))
	}
	if weak > 0 {
		r.Odd = append(r.Odd, fmt.Sprintf("%d of %d files have only an md5, which can be forged", weak, files))
	}
}

// fetch brings one small file here.
func (r *Report) fetch(ctx context.Context, f *feed.Feed, channels []*catalogue.Channel, dir string, o feed.Options) {
	var part catalogue.Part
	var of *manifest.Manifest
	var smallest manifest.File
	for _, c := range channels {
		for _, b := range slices.Backward(c.Builds) {
			for _, p := range b.Components {
				m, err := f.Manifest(p.Manifest)
				if err != nil || p.NotOwned {
					continue
				}
				for _, file := range m.Files {
					if file.Size > 0 && (smallest.Path == "" || file.Size < smallest.Size) {
						part, of, smallest = p, m, file
					}
				}
			}
			if smallest.Path != "" {
				break
			}
		}
	}
	if smallest.Path == "" {
		r.step("content", "", errors.New("no file could be chosen: nothing is owned, or all are empty"))
		return
	}
	s, err := store.Open(ctx, filepath.Join(dir, "store"))
	if err != nil {
		r.step("content", "", err)
		return
	}
	defer s.Close()
	o.Unchecked = true
	plan, err := fetch.Make(ctx, f, fetch.Request{
		Store: s, Parts: []fetch.Part{{Part: part, Manifest: of}}, Only: map[digest.Digest]bool{smallest.Digest: true}, Owner: "trial",
	}, o)
	if err == nil {
		_, err = plan.Run(ctx, o)
	}
	r.step("content", fmt.Sprintf("%s of %d bytes has come and is what was told", smallest.Path, smallest.Size), err)
}

// watcher holds messages against the schemas.
type watcher struct {
	mu         sync.Mutex
	schema     map[string]*jsonschema.Resolved
	open       map[string]string // method of a request of Morvant's, by id
	theirs     map[string]string // of the adapter's
	wrong, odd []string
}

func newWatcher() (*watcher, error) {
	var doc jsonschema.Schema
	if err := json.Unmarshal(schemas, &doc); err != nil {
		return nil, err
	}
	w := &watcher{schema: make(map[string]*jsonschema.Resolved), open: make(map[string]string), theirs: make(map[string]string)}
	for name := range doc.Defs {
		if !strings.Contains(name, "/") && name != "error" {
			continue
		}
		one := jsonschema.Schema{Ref: "#/$defs/" + strings.ReplaceAll(name, "/", "~1"), Defs: doc.CloneSchemas().Defs}
		var err error
		if w.schema[name], err = one.Resolve(nil); err != nil {
			return nil, err
		}
	}
	return w, nil
}

func (w *watcher) watch(sent bool, line []byte) {
	w.mu.Lock()
	defer w.mu.Unlock()
	var m struct {
		Version string          `json:"jsonrpc"`
		ID      json.RawMessage `json:"id"`
		Method  string          `json:"method"`
		Params  json.RawMessage `json:"params"`
		Result  json.RawMessage `json:"result"`
		Error   json.RawMessage `json:"error"`
	}
	if json.Unmarshal(line, &m) != nil {
		return // the client says so
	}
	id := string(m.ID)
	if sent {
		if m.Method != "" && m.ID != nil {
			w.open[id] = m.Method
		}
		return
	}
	if m.Version != "2.0" {
		w.fault("a message has no \"jsonrpc\": \"2.0\"")
	}
	switch {
	case m.Method != "":
		if w.schema[m.Method+"/params"] == nil {
			w.fault(fmt.Sprintf("it asks %q, which Morvant does not know", m.Method))
			return
		}
		w.check(m.Method+" (asked)", m.Method+"/params", m.Params)
	case m.Error != nil:
		w.check("the error to "+w.open[id], "error", m.Error)
	default:
		w.check("the answer to "+w.open[id], w.open[id]+"/result", m.Result)
	}
}

func (w *watcher) fault(text string) {
	if !slices.Contains(w.wrong, text) {
		w.wrong = append(w.wrong, text)
	}
}

// check holds a value against a schema. Of a message that is wrong in several places, the first is told.
func (w *watcher) check(what, name string, raw json.RawMessage) {
	schema := w.schema[name]
	if schema == nil {
		return
	}
	var v any = map[string]any{}
	if len(raw) > 0 {
		if err := json.Unmarshal(raw, &v); err != nil {
			w.fault(fmt.Sprintf("%s: %v", what, err))
			return
		}
	}
	if err := schema.Validate(v); err != nil {
		w.fault(what + ", " + inWords(err))
	}
}

// inWords says where a value breaks its schema, and how. The library names each schema on the way to it by a pointer;
// one that another refers to stands for itself.
func inWords(err error) string {
	text, last := err.Error(), ""
	var where []string
	for {
		rest, is := strings.CutPrefix(text, "validating ")
		at, then, cut := strings.Cut(rest, ": ")
		if !is || !cut {
			break
		}
		steps := strings.Split(strings.TrimPrefix(at, last), "/")
		for i := 1; i < len(steps); i++ {
			switch steps[i] {
			case "$defs":
				i++
			case "properties":
				i++
				where = append(where, steps[i])
			case "items":
				where = append(where, "each")
			}
		}
		text, last = then, at
	}
	return cmp.Or(strings.Join(where, "/"), "as a whole") + ": " + text
}
