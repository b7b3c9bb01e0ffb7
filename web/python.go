package web

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"html"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"regexp"
	"runtime"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"kembrel/api"
)

// wheels hands out the Python binding as a wheel that carries this service's binary, so that one command sets up a machine that trains:
//
//	pip install --no-index --find-links http://SERVICE/python/ kembrel
type wheels struct {
	files   fs.FS // the binding's modules, below kembrel/
	version string

	once sync.Once
	file *os.File // made when first asked for, without a name on disk
	size int64
	made time.Time
	err  error
}

var odd = regexp.MustCompile(`[^A-Za-z0-9]+`)

// name is the wheel's: version, and platform as this binary's.
func (w *wheels) name() string {
	machine := map[string]string{"amd64": "x86_64", "arm64": "aarch64"}[runtime.GOARCH]
	if machine == "" {
		machine = runtime.GOARCH
	}
	return fmt.Sprintf("kembrel-%s-py3-none-%s_%s.whl", w.number(), runtime.GOOS, machine)
}

// number is the version in the form that Python wants (PEP 440).
func (w *wheels) number() string {
	return "1.0+" + strings.ToLower(strings.Trim(odd.ReplaceAllString(w.version, "."), "."))
}

func (w *wheels) serve(c *gin.Context) {
	switch c.Param("file") {
	case "/":
		name := html.EscapeString(w.name())
		c.Data(http.StatusOK, "text/html; charset=utf-8", []byte("<!doctype html><title>Kembrel for Python</title><a href=\""+strings.ReplaceAll(name, "+", "%2B")+"\">"+name+"</a>\n"))
	case "/" + w.name():
		w.once.Do(w.make)
		if w.err != nil {
			writeProblem(c, api.Fail(api.Internal, "the wheel could not be made: %v", w.err))
			return
		}
		c.Header("Content-Type", "application/octet-stream")
		http.ServeContent(steady{c.Writer}, c.Request, "", w.made, io.NewSectionReader(w.file, 0, w.size))
	default:
		c.Status(http.StatusNotFound)
	}
}

// make writes the wheel (the binary distribution format of the Python packaging guide) into a file that has no name any more.
func (w *wheels) make() {
	w.made = time.Now()
	if w.file, w.err = os.CreateTemp("", "kembrel-wheel-"); w.err != nil {
		return
	}
	os.Remove(w.file.Name())
	archive := zip.NewWriter(w.file)
	var record strings.Builder
	info := "kembrel-" + w.number() + ".dist-info"
	add := func(name string, from io.Reader, mode fs.FileMode) error {
		h := &zip.FileHeader{Name: name, Method: zip.Deflate, Modified: time.Unix(315532800, 0).UTC()}
		h.SetMode(mode)
		to, err := archive.CreateHeader(h)
		if err != nil {
			return err
		}
		sum := sha256.New()
		n, err := io.Copy(io.MultiWriter(to, sum), from)
		fmt.Fprintf(&record, "%s,sha256=%s,%d\n", name, base64.RawURLEncoding.EncodeToString(sum.Sum(nil)), n)
		return err
	}
	w.err = w.fill(add, info)
	if w.err == nil {
		var to io.Writer
		if to, w.err = archive.Create(info + "/RECORD"); w.err == nil {
			_, w.err = io.WriteString(to, record.String()+info+"/RECORD,,\n")
		}
	}
	if w.err == nil {
		w.err = archive.Close()
	}
	if w.err == nil {
		w.size, w.err = w.file.Seek(0, io.SeekEnd)
	}
}

func (w *wheels) fill(add func(string, io.Reader, fs.FileMode) error, info string) error {
	modules, err := fs.Glob(w.files, "kembrel/*.py")
	if err != nil {
		return err
	}
	sort.Strings(modules)
	for _, name := range modules {
		content, err := fs.ReadFile(w.files, name)
		if err != nil {
			return err
		}
		if err := add(path.Clean(name), strings.NewReader(string(content)), 0o644); err != nil {
			return err
		}
	}
	own, err := os.Executable()
	if err != nil {
		return err
	}
	binary, err := os.Open(own)
	if err != nil {
		return err
	}
	defer binary.Close()
	if err := add("kembrel-"+w.number()+".data/scripts/kembrel", binary, 0o755); err != nil {
		return err
	}
	tag := strings.TrimSuffix(strings.TrimPrefix(w.name(), "kembrel-"+w.number()+"-"), ".whl")
	for _, f := range [][2]string{
		{"kembrel/py.typed", ""},
		{info + "/METADATA", "Metadata-Version: 2.1\nName: kembrel\nVersion: " + w.number() + "\nSummary: Records training runs of machine-learning models with Kembrel\nRequires-Python: >=3.9\n"},
		{info + "/WHEEL", "Wheel-Version: 1.0\nGenerator: kembrel\nRoot-Is-Purelib: false\nTag: " + tag + "\n"},
	} {
		if err := add(f[0], strings.NewReader(f[1]), 0o644); err != nil {
			return err
		}
	}
	return nil
}
