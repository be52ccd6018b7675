package standin

import (
	"bytes"
	"compress/zlib"
	"crypto/rand"
	"crypto/sha1"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Office is a distributor of Cinder Quay that knows nothing of Morvant: builds have numbers and the time of
// their upload, parts have numbers and revisions, files lie in pieces of 1 MiB with SHA-1 digests, deflated, one
// behind the other in a bundle for each revision; manifests are in a binary form of its own. People sign in with a
// password and a one-time code and get a ticket. It serves on this computer only, and misbehaves when told to.
type Office struct {
	Quay     Quay
	Accounts map[string]Account
	Key      string        // of the preview line
	Life     time.Duration // of a ticket; 0: an hour
	Listed   int           // how many of the newest builds of a line are listed; 0: all
	Upto     string        // the last build that is out; empty: all
	Folders  []string      // builds of something else instead of Cinder Quay's, the oldest first
	Now      func() time.Time
	Address  string

	server    *http.Server
	builds    []OfficeBuild
	manifests map[string][]byte // by part and revision
	bundles   map[string][]byte

	mu      sync.Mutex
	faults  Faults
	tickets map[string]*session
	stats   Stats
}

type OfficeBuild struct {
	Number   int          `json:"number"`
	Line     string       `json:"-"`
	Uploaded int64        `json:"uploaded"` // seconds since 1970
	Parts    []OfficePart `json:"parts"`
}

type OfficePart struct {
	Part     int   `json:"part"`
	Revision int64 `json:"revision"`
	Files    int   `json:"files"`
	Bytes    int64 `json:"bytes"`
	Owned    bool  `json:"owned"`
}

// OfficeParts are the numbers of the components.
var OfficeParts = map[string]int{"base": 3101, "voices-en": 3102, "voices-fr": 3103, "night-shift": 3107}

const officePiece = 1 << 20

// OfficeFile is a file in a manifest of the office.
type OfficeFile struct {
	Path     string
	Size     int64
	Program  bool
	Modified int64
	Sum      [sha1.Size]byte
	Pieces   []OfficePiece
}

type OfficePiece struct {
	Sum            [sha1.Size]byte
	Size           int
	Revision       int64 // whose bundle has it
	Offset, Stored int64
}

// officeMagic begins a manifest.
const officeMagic = "QOM\x01"

func encodeOffice(files []OfficeFile) []byte {
	b := []byte(officeMagic)
	b = binary.AppendUvarint(b, uint64(len(files)))
	for _, f := range files {
		b = binary.AppendUvarint(b, uint64(len(f.Path)))
		b = append(b, f.Path...)
		b = binary.AppendUvarint(b, uint64(f.Size))
		flags := byte(0)
		if f.Program {
			flags = 1
		}
		b = append(b, flags)
		b = binary.AppendVarint(b, f.Modified)
		b = append(b, f.Sum[:]...)
		b = binary.AppendUvarint(b, uint64(len(f.Pieces)))
		for _, p := range f.Pieces {
			b = append(b, p.Sum[:]...)
			for _, n := range []int64{int64(p.Size), p.Revision, p.Offset, p.Stored} {
				b = binary.AppendUvarint(b, uint64(n))
			}
		}
	}
	return b
}

var errOffice = errors.New("not a manifest of the office")

func DecodeOffice(b []byte) ([]OfficeFile, error) {
	r := bytes.NewReader(bytes.TrimPrefix(b, []byte(officeMagic)))
	if int(r.Size()) == len(b) {
		return nil, errOffice
	}
	var failed error
	number := func() int64 {
		n, err := binary.ReadUvarint(r)
		if err != nil {
			failed = errOffice
		}
		return int64(n)
	}
	take := func(into []byte) {
		if n, _ := r.Read(into); n != len(into) {
			failed = errOffice
		}
	}
	var files []OfficeFile
	for range number() {
		var f OfficeFile
		length := number()
		if failed != nil || length > 4096 {
			return nil, errOffice
		}
		name := make([]byte, length)
		take(name)
		f.Path, f.Size = string(name), number()
		var flags [1]byte
		take(flags[:])
		f.Program = flags[0] == 1
		f.Modified, _ = binary.ReadVarint(r)
		take(f.Sum[:])
		for range number() {
			if failed != nil {
				return nil, failed
			}
			var p OfficePiece
			take(p.Sum[:])
			p.Size, p.Revision, p.Offset, p.Stored = int(number()), number(), number(), number()
			f.Pieces = append(f.Pieces, p)
		}
		files = append(files, f)
	}
	return files, failed
}

// prepare makes builds, manifests and bundles from what Quay writes in an empty folder.
func (o *Office) prepare(work string) error {
	o.manifests, o.bundles = make(map[string][]byte), make(map[string][]byte)
	at := make(map[[sha1.Size]byte]OfficePiece) // where a piece was first put
	last := make(map[string]OfficePart)
	was := make(map[string][]byte)
	releases := Releases()
	if len(o.Folders) > 0 {
		releases = nil
		for i := range o.Folders {
			releases = append(releases, Release{Channel: "public", Date: time.Date(2031, 1, 1+i, 9, 0, 0, 0, time.UTC)})
		}
	}
	for i, release := range releases {
		if len(o.Folders) > 0 {
			work = o.Folders[i]
		} else if err := o.Quay.Write(work, release.Label); err != nil {
			return err
		}
		b := OfficeBuild{Number: 8801217 + 1371*i, Line: release.Channel, Uploaded: release.Date.Unix()}
		for _, name := range Components() {
			part, files, bundle, err := o.part(work, name, int64(70012000+i*911+OfficeParts[name]%100), at)
			if err != nil {
				return err
			}
			if len(files) == 0 {
				continue
			}
			content, err := json.Marshal(contents(files))
			if err != nil {
				return err
			}
			if bytes.Equal(was[name], content) {
				b.Parts = append(b.Parts, last[name]) // nothing new: the revision before
				continue
			}
			was[name], last[name] = content, part
			key := fmt.Sprintf("%d/%d", part.Part, part.Revision)
			o.manifests[key], o.bundles[key] = encodeOffice(files), bundle
			b.Parts = append(b.Parts, part)
		}
		o.builds = append(o.builds, b)
		if o.Upto != "" && release.Label == o.Upto {
			break
		}
	}
	return nil
}

// contents is what tells whether a part has changed.
func contents(files []OfficeFile) map[string]string {
	m := make(map[string]string)
	for _, f := range files {
		m[f.Path] = hex.EncodeToString(f.Sum[:])
	}
	return m
}

func (o *Office) part(work, name string, revision int64, at map[[sha1.Size]byte]OfficePiece) (OfficePart, []OfficeFile, []byte, error) {
	part := OfficePart{Part: OfficeParts[name], Revision: revision}
	var files []OfficeFile
	var bundle bytes.Buffer
	err := filepath.WalkDir(work, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, err := filepath.Rel(work, p)
		if err != nil {
			return err
		}
		if rel = filepath.ToSlash(rel); Component(rel) != name {
			return nil
		}
		b, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		f := OfficeFile{Path: rel, Size: int64(len(b)), Program: strings.HasSuffix(rel, ".exe") || info.Mode()&0o111 != 0, Modified: info.ModTime().Unix(), Sum: sha1.Sum(b)}
		for piece := range slices.Chunk(b, officePiece) {
			where, known := at[sha1.Sum(piece)]
			if !known {
				where = OfficePiece{Sum: sha1.Sum(piece), Size: len(piece), Revision: revision, Offset: int64(bundle.Len())}
				z := zlib.NewWriter(&bundle)
				if _, err := z.Write(piece); err != nil {
					return err
				}
				if err := z.Close(); err != nil {
					return err
				}
				where.Stored = int64(bundle.Len()) - where.Offset
				at[where.Sum] = where
			}
			f.Pieces = append(f.Pieces, where)
		}
		files = append(files, f)
		part.Files++
		part.Bytes += f.Size
		return nil
	})
	return part, files, bundle.Bytes(), err
}

// Start makes the builds and begins to serve; it returns the address.
func (o *Office) Start() (string, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Life == 0 {
		o.Life = time.Hour
	}
	work, err := os.MkdirTemp("", "morvant-office-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(work)
	if err := o.prepare(work); err != nil {
		return "", err
	}
	o.tickets = make(map[string]*session)
	address := o.Address
	if address == "" {
		address = "127.0.0.1:0"
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return "", err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /v1/ticket", o.ticket)
	mux.HandleFunc("GET /v1/lines", func(w http.ResponseWriter, _ *http.Request) {
		json.NewEncoder(w).Encode([]map[string]any{{"line": "public", "locked": false}, {"line": "preview", "locked": o.Key != ""}})
	})
	mux.HandleFunc("POST /v1/lines/{line}/key", o.unlock)
	mux.HandleFunc("GET /v1/lines/{line}/builds", o.list)
	mux.HandleFunc("GET /v1/manifest/{part}/{revision}", o.manifest)
	mux.HandleFunc("GET /v1/bundle/{part}/{revision}", o.bundle)
	o.server = &http.Server{Handler: mux, ErrorLog: quiet()}
	go o.server.Serve(l)
	return "http://" + l.Addr().String(), nil
}

// Close stops serving.
func (o *Office) Close() error { return o.server.Close() }

// Misbehave sets what goes wrong from now on.
func (o *Office) Misbehave(f Faults) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.faults = f
}

// Stats returns what has been counted so far.
func (o *Office) Stats() Stats {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.stats
}

// ExpireTickets ends every session.
func (o *Office) ExpireTickets() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.tickets = make(map[string]*session)
}

func refused(w http.ResponseWriter, status int, reason string) {
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(map[string]string{"reason": reason})
}

func (o *Office) ticket(w http.ResponseWriter, r *http.Request) {
	var ask struct{ Name, Password, Code string }
	if json.NewDecoder(r.Body).Decode(&ask) != nil {
		refused(w, http.StatusBadRequest, "unreadable")
		return
	}
	account, known := o.Accounts[ask.Name]
	switch problem := account.check(ask.Code, o.Now()); {
	case !known || account.Password != ask.Password:
		refused(w, http.StatusForbidden, "wrong name or password")
	case problem == "otp_required":
		refused(w, http.StatusForbidden, "code")
	case problem != "":
		refused(w, http.StatusForbidden, "wrong code")
	default:
		t := rand.Text()
		o.mu.Lock()
		o.tickets[t] = &session{user: ask.Name, expires: o.Now().Add(o.Life), open: make(map[string]bool)}
		o.stats.Grants++
		o.mu.Unlock()
		json.NewEncoder(w).Encode(map[string]string{"ticket": t})
	}
}

// who answers requests without a ticket, where one is needed.
func (o *Office) who(w http.ResponseWriter, r *http.Request) *session {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.stats.Requests++
	if o.Accounts == nil {
		return &session{open: map[string]bool{"preview": o.Key == ""}}
	}
	s := o.tickets[r.Header.Get("X-Ticket")]
	if s == nil || !o.Now().Before(s.expires) {
		refused(w, http.StatusUnauthorized, "no ticket")
		return nil
	}
	return s
}

func (o *Office) unlock(w http.ResponseWriter, r *http.Request) {
	s := o.who(w, r)
	var ask struct{ Key string }
	if s == nil {
		return
	}
	if json.NewDecoder(r.Body).Decode(&ask) != nil || ask.Key != o.Key || r.PathValue("line") != "preview" {
		refused(w, http.StatusForbidden, "wrong key")
		return
	}
	o.mu.Lock()
	s.open["preview"] = true
	o.mu.Unlock()
}

// maySee reports whether a line is open to somebody.
func (o *Office) maySee(s *session, line string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return line != "preview" || o.Key == "" || s.open[line]
}

func (o *Office) owns(s *session, part int) bool {
	for name, number := range OfficeParts {
		if number == part {
			return o.Accounts == nil || o.Accounts[s.user].owns(name)
		}
	}
	return false
}

func (o *Office) list(w http.ResponseWriter, r *http.Request) {
	s := o.who(w, r)
	if s == nil {
		return
	}
	line := r.PathValue("line")
	if !o.maySee(s, line) {
		refused(w, http.StatusForbidden, "locked")
		return
	}
	list := []OfficeBuild{}
	for _, b := range slices.Backward(o.builds) {
		if b.Line != line || o.Listed > 0 && len(list) == o.Listed {
			continue
		}
		b.Parts = slices.Clone(b.Parts)
		for i := range b.Parts {
			b.Parts[i].Owned = o.owns(s, b.Parts[i].Part)
		}
		list = append(list, b)
	}
	json.NewEncoder(w).Encode(list)
}

func (o *Office) manifest(w http.ResponseWriter, r *http.Request) {
	s := o.who(w, r)
	if s == nil {
		return
	}
	b, ok := o.manifests[r.PathValue("part")+"/"+r.PathValue("revision")]
	if !ok {
		refused(w, http.StatusNotFound, "no such revision")
		return
	}
	w.Write(b)
}

func (o *Office) bundle(w http.ResponseWriter, r *http.Request) {
	s := o.who(w, r)
	if s == nil {
		return
	}
	part, _ := strconv.Atoi(r.PathValue("part"))
	b, ok := o.bundles[r.PathValue("part")+"/"+r.PathValue("revision")]
	switch {
	case !ok:
		refused(w, http.StatusNotFound, "no such revision")
		return
	case !o.owns(s, part):
		refused(w, http.StatusForbidden, "not owned")
		return
	}
	o.mu.Lock()
	o.stats.Packs++
	f := o.faults.next("packs/")
	o.mu.Unlock()
	if f.instead(w) {
		return
	}
	f.send(w, r, time.Unix(0, 0), bytes.NewReader(b), func(n int) {
		o.mu.Lock()
		o.stats.Bytes += int64(n)
		o.mu.Unlock()
	})
}
