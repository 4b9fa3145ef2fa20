package cli

import (
	"archive/zip"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"

	"kestite/core/evidence"
	"kestite/core/seal"
)

// Bounds of a zip: of all that comes by standard input, and of its listing, whose
// every entry takes memory.
const (
	mostInput   = 16 << 30
	mostListing = 16 << 20
	mostJudged  = 256 << 20 // of stretches.json
)

// listing bounds how much a zip's listing may be; what is read afterwards is not.
type listing struct {
	io.ReaderAt
	left int
	read bool
}

func (l *listing) ReadAt(p []byte, at int64) (int, error) {
	if !l.read {
		if l.left -= len(p); l.left < 0 {
			return 0, fmt.Errorf("its listing is longer than %d MiB", mostListing>>20)
		}
	}
	return l.ReaderAt.ReadAt(p, at)
}

// evidenceSource finds bundle.json and measurements.csv, plain or gzipped, in a
// directory or a zip.
type evidenceSource struct {
	files   fs.FS
	where   string
	closers []func() error
}

func openEvidence(name string, stdin io.Reader) (*evidenceSource, error) {
	s := &evidenceSource{where: name}
	if name == "-" {
		tmp, err := os.CreateTemp("", "kestite-evidence-*.zip")
		if err != nil {
			return nil, err
		}
		s.where = "standard input"
		s.closers = append(s.closers, tmp.Close)
		// Without a name it goes with this process, however that ends.
		if err := os.Remove(tmp.Name()); err != nil {
			s.close()
			return nil, err
		}
		n, err := io.Copy(tmp, io.LimitReader(stdin, mostInput+1))
		if err == nil && n > mostInput {
			err = fmt.Errorf("standard input is longer than %d GiB; save it as a file, and name that", mostInput>>30)
		}
		if err != nil {
			s.close()
			return nil, err
		}
		return s, s.openZip(tmp)
	}
	info, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		s.files = os.DirFS(name)
		return s, nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	s.closers = append(s.closers, f.Close)
	return s, s.openZip(f)
}

func (s *evidenceSource) openZip(f *os.File) error {
	info, err := f.Stat()
	if err == nil {
		var z *zip.Reader
		list := &listing{ReaderAt: f, left: mostListing}
		if z, err = zip.NewReader(list, info.Size()); err == nil {
			list.read = true
			s.files = z
			return nil
		}
	}
	s.close()
	return fmt.Errorf("%s is neither a directory nor a zip: %w", s.where, err)
}

func (s *evidenceSource) close() {
	for i := len(s.closers) - 1; i >= 0; i-- {
		s.closers[i]()
	}
	s.closers = nil
}

// find returns the path of a file, at the top or in the only folder.
func (s *evidenceSource) find(name string) (string, error) {
	candidates := []string{name, name + ".gz"}
	if dirs, err := fs.ReadDir(s.files, "."); err == nil && len(dirs) == 1 && dirs[0].IsDir() {
		candidates = append(candidates, path.Join(dirs[0].Name(), name), path.Join(dirs[0].Name(), name+".gz"))
	}
	for _, c := range candidates {
		if _, err := fs.Stat(s.files, c); err == nil {
			return c, nil
		}
	}
	return "", fmt.Errorf("%s: there is no %s; evidence is bundle.json and measurements.csv", s.where, name)
}

func (s *evidenceSource) open(name string) (io.ReadCloser, error) {
	f, err := s.files.Open(name)
	if err != nil || path.Ext(name) != ".gz" {
		return f, err
	}
	z, err := gzip.NewReader(f)
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return &gzipFile{z, f}, nil
}

type gzipFile struct {
	*gzip.Reader
	file io.Closer
}

func (g *gzipFile) Close() error { return errors.Join(g.Reader.Close(), g.file.Close()) }

func (s *evidenceSource) bundle() (io.ReadCloser, string, error) {
	name, err := s.find("bundle.json")
	if err != nil {
		return nil, "", err
	}
	f, err := s.open(name)
	return f, name, err
}

// judgedOnly says that there is what was judged of the measurements, and not they.
func (s *evidenceSource) judgedOnly() bool {
	if _, err := s.find(seal.MeasurementsName); err == nil {
		return false
	}
	_, err := s.find(seal.StretchesName)
	return err == nil
}

func (s *evidenceSource) judged() (text []byte, name string, err error) {
	if name, err = s.find(seal.StretchesName); err != nil {
		return nil, "", err
	}
	f, err := s.open(name)
	if err != nil {
		return nil, name, err
	}
	defer f.Close()
	text, err = io.ReadAll(io.LimitReader(f, mostJudged+1))
	if err == nil && len(text) > mostJudged {
		err = fmt.Errorf("%s is longer than %d MiB", name, mostJudged>>20)
	}
	return text, name, err
}

func (s *evidenceSource) measurements() (evidence.Open, string, error) {
	name, err := s.find("measurements.csv")
	if err != nil {
		return nil, "", err
	}
	return func() (io.ReadCloser, error) { return s.open(name) }, name, nil
}
