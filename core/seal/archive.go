package seal

import (
	"archive/zip"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
	"strings"
)

// Names of the archive's first entries; the files of the manifest follow in its order.
const (
	ManifestName  = "manifest.json"
	SignatureName = "signature"
)

// Archive is a published report with all that it can be checked by.
type Archive struct {
	Manifest  Manifest
	Encoded   []byte // of the manifest
	Signature []byte // empty: it is not signed
	Files     map[string][]byte
}

// Write writes the archive in its one form: a zip whose entries are stored, in order,
// without times, comments or extra fields.
func (a *Archive) Write(w io.Writer) error {
	z := zip.NewWriter(w)
	add := func(name string, content []byte) error {
		n := uint64(len(content))
		to, err := z.CreateRaw(&zip.FileHeader{Name: name, Method: zip.Store, CRC32: crc32.ChecksumIEEE(content), CompressedSize64: n, UncompressedSize64: n})
		if err != nil {
			return err
		}
		_, err = to.Write(content)
		return err
	}
	if err := add(ManifestName, a.Encoded); err != nil {
		return err
	}
	if len(a.Signature) > 0 {
		if err := add(SignatureName, a.Signature); err != nil {
			return err
		}
	}
	for _, f := range a.Manifest.Files {
		if err := add(f.Name, a.Files[f.Name]); err != nil {
			return err
		}
	}
	return z.Close()
}

// mostArchive bounds what an archive may hold, bytes.
const mostArchive = 4 << 30

// Read reads an archive and refuses one that is not in its one form, or whose files are
// not those of its manifest. It says nothing of who signed it.
func Read(r io.ReaderAt, size int64) (*Archive, error) {
	a, err := Open(r, size)
	if err != nil {
		return nil, err
	}
	return a, a.Whole(r, size)
}

// Open reads an archive whose manifest is in its one form, and nothing more: Whole compares
// the rest. Its errors have no text of the archive, which nobody has vouched for yet.
func Open(r io.ReaderAt, size int64) (*Archive, error) {
	if size > mostArchive {
		return nil, fmt.Errorf("it is longer than %d GiB", mostArchive>>30)
	}
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, errors.New("it is no archive of a report: it is no zip")
	}
	a := &Archive{Files: map[string][]byte{}}
	for i, f := range z.File {
		if f.Method != zip.Store || f.UncompressedSize64 > uint64(size) {
			return nil, fmt.Errorf("its entry %d is not stored as an archive of a report stores its files", i+1)
		}
		content, err := contentOf(f)
		if err != nil {
			return nil, fmt.Errorf("its entry %d cannot be read, or its CRC is another", i+1)
		}
		switch {
		case i == 0 && f.Name == ManifestName:
			a.Encoded = content
		case i == 1 && f.Name == SignatureName:
			a.Signature = content
		case a.Files[f.Name] != nil:
			return nil, fmt.Errorf("its entry %d has the name of one before it", i+1)
		default:
			a.Files[f.Name] = content
		}
	}
	if a.Encoded == nil {
		return nil, errors.New("it has no manifest.json at its beginning")
	}
	if a.Manifest, err = Decode(a.Encoded); err != nil {
		return nil, fmt.Errorf("its manifest is not one of %s, written as that is", Format)
	}
	return a, nil
}

// Whole refuses an archive whose files are not those of its manifest, or whose container, of
// so many bytes, is not in its one form.
func (a *Archive) Whole(r io.ReaderAt, size int64) error {
	if err := a.whole(); err != nil {
		return err
	}
	same := &comparing{r: io.NewSectionReader(r, 0, size)}
	if err := a.Write(same); err != nil || same.at != size {
		return errors.Join(errors.New("the container is not in its one form: something was added to it or changed beside its files"), err)
	}
	return nil
}

// whole compares the files with the manifest.
func (a *Archive) whole() error {
	var wrong []string
	names := map[string]bool{}
	for _, f := range a.Manifest.Files {
		content, has := a.Files[f.Name]
		switch {
		case names[f.Name] || f.Name == ManifestName || f.Name == SignatureName || strings.Contains(f.Name, "/"):
			wrong = append(wrong, fmt.Sprintf("the manifest names %q, which cannot be", f.Name))
		case !has:
			wrong = append(wrong, fmt.Sprintf("%q is missing", f.Name))
		case int64(len(content)) != f.Bytes || Digest(content) != f.SHA256:
			wrong = append(wrong, fmt.Sprintf("%q is not the file of the manifest: its digest is another", f.Name))
		}
		names[f.Name] = true
	}
	for name := range a.Files {
		if !names[name] {
			wrong = append(wrong, fmt.Sprintf("%q is in it and not in the manifest", name))
		}
	}
	slices.Sort(wrong)
	if len(wrong) > 0 {
		return errors.New(strings.Join(wrong, "; "))
	}
	return nil
}

func contentOf(f *zip.File) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}

// comparing is written to, and refuses what is not what r holds.
type comparing struct {
	r   io.Reader
	at  int64
	buf []byte
}

func (c *comparing) Write(p []byte) (int, error) {
	if cap(c.buf) < len(p) {
		c.buf = make([]byte, len(p))
	}
	have := c.buf[:len(p)]
	if _, err := io.ReadFull(c.r, have); err != nil || string(have) != string(p) {
		return 0, fmt.Errorf("at byte %d", c.at)
	}
	c.at += int64(len(p))
	return len(p), nil
}
