package exchange

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/process"
	"morvant/internal/progress"
)

func TestMain(m *testing.M) {
	if process.Is(os.Args, process.ContainedName) {
		os.Exit(process.ContainedMain(Memory, Unpack))
	}
	os.Exit(m.Run())
}

// TestWhatIsUnpackedInAProcessOfItsOwnIsTheSame holds every archive of testdata against reading it here.
func TestWhatIsUnpackedInAProcessOfItsOwnIsTheSame(t *testing.T) {
	list, err := filepath.Glob("testdata/*.*")
	require.NoError(t, err)
	require.Greater(t, len(list), 5)
	for _, src := range list {
		read := func(self string) (memory, *Imported, error) {
			in := memory{}
			i := &Import{Sink: in.put, Meter: progress.None{}, Self: self, Password: func(bool) (string, error) { return "harbour", nil }}
			got, err := i.Read(t.Context(), src)
			return in, got, err
		}
		in, want, wantErr := read("")
		other, got, err := read(process.Self())
		if wantErr != nil {
			require.EqualError(t, err, wantErr.Error(), src)
			for _, k := range kinds {
				require.Equal(t, errors.Is(wantErr, k.is), errors.Is(err, k.is), "%s: %v", src, k.name)
			}
			continue
		}
		require.NoError(t, err, src)
		require.Equal(t, want.Manifest.Digest(), got.Manifest.Digest(), src)
		require.Equal(t, want.Attributes.Encode(), got.Attributes.Encode(), src)
		require.Equal(t, len(in), len(other), src)
	}
}

// bigDictionary makes an xz whose header asks for a dictionary of 4 GiB.
func bigDictionary(t *testing.T) []byte {
	var out bytes.Buffer
	var plain bytes.Buffer
	smallTar(t, &plain)
	w, err := xz.NewWriter(&out)
	require.NoError(t, err)
	_, err = w.Write(plain.Bytes())
	require.NoError(t, err)
	require.NoError(t, w.Close())
	b := out.Bytes()
	// The header of the block follows that of the stream, of 12 bytes: its size / 4, flags, then the filter: 0x21, 1, the
	// dictionary (https://tukaani.org/xz/xz-file-format.txt, 3.1 and 5.3.1).
	head := b[12 : 12+4*(int(b[12])+1)]
	at := bytes.Index(head, []byte{0x21, 0x01})
	require.Positive(t, at)
	head[at+2] = 40
	binary.LittleEndian.PutUint32(head[len(head)-4:], crc32.ChecksumIEEE(head[:len(head)-4]))
	return b
}

// manyEntries makes a 7z whose header, of a few bytes, claims this many files without content.
func manyEntries(n uint64) []byte {
	number := func(v uint64) []byte { return append([]byte{0xff}, binary.LittleEndian.AppendUint64(nil, v)...) }
	header := []byte{0x01, 0x05}
	header = append(header, number(n)...)
	bits := (n + 7) / 8
	header = append(header, 0x0e)
	header = append(header, number(bits)...)
	header = append(header, bytes.Repeat([]byte{0xff}, int(bits))...)
	header = append(header, 0x11)
	header = append(header, number(1+4*n)...)
	header = append(header, 0)
	header = append(header, bytes.Repeat([]byte{'a', 0, 0, 0}, int(n))...)
	header = append(header, 0, 0)
	start := binary.LittleEndian.AppendUint64(nil, 0)
	start = binary.LittleEndian.AppendUint64(start, uint64(len(header)))
	start = binary.LittleEndian.AppendUint32(start, crc32.ChecksumIEEE(header))
	out := append([]byte(sevenMagic), 0, 4)
	out = binary.LittleEndian.AppendUint32(out, crc32.ChecksumIEEE(start))
	return append(append(out, start...), header...)
}

// TestABombEndsInOneSentence: whatever a header asks for, the process that unpacks it takes no more than its memory.
func TestABombEndsInOneSentence(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("not every system, nor Wine, bounds the memory of a process")
	}
	dir := t.TempDir()
	for name, b := range map[string][]byte{"dictionary.tar.xz": bigDictionary(t), "entries.7z": manyEntries(2_500_000), "claims.7z": manyEntries(1 << 20)[:100]} {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, b, 0o644))
		in := memory{}
		_, err := (&Import{Sink: in.put, Meter: progress.None{}, Self: process.Self()}).Read(t.Context(), file)
		require.Error(t, err, name)
		require.NotContains(t, err.Error(), "goroutine", name)
		require.Empty(t, in, name)
	}
}

// TestADictionaryAsLargeAsPossibleIsRead: what is honest, and large, still is.
func TestADictionaryAsLargeAsPossibleIsRead(t *testing.T) {
	if testing.Short() || runtime.GOOS == "windows" {
		t.Skip("it takes a program that packs")
	}
	seven, err := exec.LookPath("7z")
	if err != nil {
		t.Skip("7z is not there")
	}
	dir := t.TempDir()
	content := make([]byte, 3<<20)
	digest.Expand("large", content)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.pak"), content, 0o644))
	cmd := exec.Command(seven, "a", "-mx9", "-m0=lzma2:d=256m", "large.7z", "a.pak")
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	in := memory{}
	got, err := (&Import{Sink: in.put, Meter: progress.None{}, Self: process.Self()}).Read(t.Context(), filepath.Join(dir, "large.7z"))
	require.NoError(t, err)
	require.Equal(t, digest.Of(content), got.Manifest.Files[0].Digest)
}

// TestManySmallFilesAreRead: the frames of many files keep their order.
func TestManySmallFilesAreRead(t *testing.T) {
	dir := t.TempDir()
	var z, tr bytes.Buffer
	zw, tw := zip.NewWriter(&z), tar.NewWriter(&tr)
	for i := range 3000 {
		name := "data/" + string(rune('a'+i%26)) + "/" + digest.Of([]byte{byte(i), byte(i >> 8)}).Short()
		w, err := zw.Create(name)
		require.NoError(t, err)
		_, err = w.Write([]byte(name))
		require.NoError(t, err)
		require.NoError(t, tw.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(name))}))
		_, err = tw.Write([]byte(name))
		require.NoError(t, err)
	}
	require.NoError(t, zw.Close())
	require.NoError(t, tw.Close())
	for name, b := range map[string][]byte{"many.zip": z.Bytes(), "many.tar": tr.Bytes()} {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, b, 0o644))
		in := memory{}
		got, err := (&Import{Sink: in.put, Meter: progress.None{}, Self: process.Self()}).Read(t.Context(), file)
		require.NoError(t, err)
		require.Len(t, got.Manifest.Files, 3000)
		for _, f := range got.Manifest.Files {
			require.Equal(t, digest.Of([]byte(f.Path)), f.Digest)
		}
	}
}

// FuzzFrames: whatever a process that unpacks says, what is taken is whole, or the import fails.
func FuzzFrames(f *testing.F) {
	var out bytes.Buffer
	fr := &frames{out: bufio.NewWriter(&out), buf: make([]byte, frameSize)}
	require.NoError(f, fr.file("a", bytes.NewReader([]byte("content")), manifest.Attribute{Mode: 0o644}))
	require.NoError(f, fr.link(manifest.Link{Path: "b", Target: "a"}))
	require.NoError(f, fr.same("c", "a"))
	require.NoError(f, fr.dir("d"))
	require.NoError(f, fr.write(frameDone, nil))
	require.NoError(f, fr.out.Flush())
	f.Add(out.Bytes())
	f.Add(out.Bytes()[:20])
	f.Fuzz(func(t *testing.T, b []byte) {
		in := memory{}
		to := (&Import{Sink: in.put, Meter: progress.None{}}).into(t.Context())
		if (&unframing{in: bufio.NewReader(bytes.NewReader(b)), meter: progress.None{}}).run(to) != nil {
			return
		}
		if got, err := to.finish(); err == nil {
			require.NoError(t, got.Manifest.Validate())
		}
	})
}
