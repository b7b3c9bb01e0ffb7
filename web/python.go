package web

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"html"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"kembrel/api"
)

// wheels hands out the Python binding as wheels that carry the binary for a platform, so that one command sets up a
// machine that trains:
//
//	pip install --no-index --find-links http://SERVICE/python/ kembrel
//
// There is one for the platform of this service, one for each binary in a folder (as make platforms writes them), and
// one without any, which pip takes where no other fits.
type wheels struct {
	files   fs.FS // the binding's modules, below kembrel/
	version string
	folder  string // of binaries for other platforms, kembrel-SYSTEM-MACHINE as Go names them; "": there are none

	mutex sync.Mutex
	made  map[string]*wheel // by name
}

// wheel is made when it is first asked for, into a file without a name on disk.
type wheel struct {
	once sync.Once
	file *os.File
	size int64
	made time.Time
	err  error
}

var odd = regexp.MustCompile(`[^A-Za-z0-9]+`)

// tags are the platforms that wheels are made for, as Go names them and as Python does (PEP 425). Go 1.26 needs macOS
// 12.
var tags = map[string]string{
	"linux-amd64": "linux_x86_64", "linux-arm64": "linux_aarch64", "darwin-amd64": "macosx_12_0_x86_64",
	"darwin-arm64": "macosx_12_0_arm64",
}

// name is a wheel's for a tag of a platform.
func (w *wheels) name(tag string) string {
	return "kembrel-" + w.number() + "-py3-none-" + tag + ".whl"
}

// number is the version in the form that Python wants (PEP 440).
func (w *wheels) number() string {
	return "1.0+" + strings.ToLower(strings.Trim(odd.ReplaceAllString(w.version, "."), "."))
}

// binaries are the files that wheels carry, by the wheel's tag; "": none.
func (w *wheels) binaries() map[string]string {
	out := map[string]string{"any": ""}
	for platform, tag := range tags {
		file := filepath.Join(w.folder, "kembrel-"+platform)
		if info, err := os.Stat(file); w.folder != "" && err == nil && info.Mode().IsRegular() {
			out[tag] = file
		}
	}
	if own, err := os.Executable(); err == nil {
		tag := tags[runtime.GOOS+"-"+runtime.GOARCH]
		if tag == "" {
			tag = runtime.GOOS + "_" + runtime.GOARCH
		}
		out[tag] = own
	}
	return out
}

func (w *wheels) serve(c *gin.Context) {
	binaries := w.binaries()
	if c.Param("file") == "/" {
		page := "<!doctype html><title>Kembrel for Python</title>\n"
		for _, tag := range slices.Sorted(maps.Keys(binaries)) {
			name := html.EscapeString(w.name(tag))
			page += "<a href=\"" + strings.ReplaceAll(name, "+", "%2B") + "\">" + name + "</a><br>\n"
		}
		c.Data(http.StatusOK, "text/html; charset=utf-8", []byte(page))
		return
	}
	for tag, binary := range binaries {
		name := w.name(tag)
		if c.Param("file") != "/"+name {
			continue
		}
		w.mutex.Lock()
		one := w.made[name]
		if one == nil {
			one = &wheel{}
			w.made[name] = one
		}
		w.mutex.Unlock()
		one.once.Do(func() { one.err = w.make(one, tag, binary) })
		if one.err != nil {
			w.mutex.Lock()
			delete(w.made, name) // a full disk may have room again
			w.mutex.Unlock()
			writeProblem(c, api.Fail(api.Internal, "the wheel could not be made: %v", one.err))
			return
		}
		c.Header("Content-Type", "application/octet-stream")
		sendContent(c.Writer, c.Request, one.made, io.NewSectionReader(one.file, 0, one.size))
		return
	}
	c.Status(http.StatusNotFound)
}

// make writes a wheel (the binary distribution format of the Python packaging guide) into a file that has no name any
// more.
func (w *wheels) make(one *wheel, tag, binary string) (err error) {
	one.made = time.Now()
	if one.file, err = os.CreateTemp("", "kembrel-wheel-"); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			one.file.Close()
		}
	}()
	os.Remove(one.file.Name())
	archive := zip.NewWriter(one.file)
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
	if err := w.fill(add, info, tag, binary); err != nil {
		return err
	}
	to, err := archive.Create(info + "/RECORD")
	if err != nil {
		return err
	}
	if _, err := io.WriteString(to, record.String()+info+"/RECORD,,\n"); err != nil {
		return err
	}
	if err := archive.Close(); err != nil {
		return err
	}
	one.size, err = one.file.Seek(0, io.SeekEnd)
	return err
}

func (w *wheels) fill(add func(string, io.Reader, fs.FileMode) error, info, tag, binary string) error {
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
	if binary != "" {
		file, err := os.Open(binary)
		if err != nil {
			return err
		}
		defer file.Close()
		if err := add("kembrel-"+w.number()+".data/scripts/kembrel", file, 0o755); err != nil {
			return err
		}
	}
	for _, f := range [][2]string{
		{"kembrel/py.typed", ""},
		{info + "/METADATA", "Metadata-Version: 2.1\nName: kembrel\nVersion: " + w.number() +
			"\nSummary: Records training runs of machine-learning models with Kembrel\nRequires-Python: >=3.9\n"},
		{info + "/WHEEL", "Wheel-Version: 1.0\nGenerator: kembrel\nRoot-Is-Purelib: " +
			strconv.FormatBool(binary == "") + "\nTag: py3-none-" + tag + "\n"},
	} {
		if err := add(f[0], strings.NewReader(f[1]), 0o644); err != nil {
			return err
		}
	}
	return nil
}
