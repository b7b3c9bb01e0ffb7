package web

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/mod/module"
	"golang.org/x/mod/zip"

	"kembrel/api"
)

// goModulePath is the module by which Go programs import the binding.
const goModulePath = "kembrel.internal/kembrel"

// goModule hands out the Go binding by the Go module proxy protocol (go help goproxy), from what the binary carries:
//
//	GOPROXY=http://SERVICE/go,... GONOSUMDB=kembrel.internal go get kembrel.internal/kembrel
//
// There is one version, named by the time of its last change and by its content: services that carry the same binding
// name the same version.
type goModule struct {
	files fs.FS     // go.mod and the module's files
	time  time.Time // of their last change; zero where the build does not know

	once    sync.Once
	version string
	zip     []byte
	mod     []byte
	err     error
}

// source is a file of the module, as the zip's maker wants it.
type source struct {
	files fs.FS
	path  string
}

func (s source) Path() string                 { return s.path }
func (s source) Lstat() (os.FileInfo, error)  { return fs.Stat(s.files, s.path) }
func (s source) Open() (io.ReadCloser, error) { return s.files.Open(s.path) }

func (m *goModule) make() error {
	entries, err := fs.ReadDir(m.files, ".")
	if err != nil {
		return err
	}
	var files []zip.File
	digest := sha256.New()
	for _, e := range entries {
		content, err := fs.ReadFile(m.files, e.Name())
		if err != nil {
			return err
		}
		fmt.Fprintf(digest, "%s %d\n", e.Name(), len(content))
		digest.Write(content)
		files = append(files, source{m.files, e.Name()})
	}
	m.version = module.PseudoVersion("v1", "", m.time, hex.EncodeToString(digest.Sum(nil))[:12])
	if m.mod, err = fs.ReadFile(m.files, "go.mod"); err != nil {
		return err
	}
	var b bytes.Buffer
	if err := zip.Create(&b, module.Version{Path: goModulePath, Version: m.version}, files); err != nil {
		return err
	}
	m.zip = b.Bytes()
	return nil
}

func (m *goModule) serve(c *gin.Context) {
	m.once.Do(func() { m.err = m.make() })
	if m.err != nil {
		writeProblem(c, api.Fail(api.Internal, "the module could not be made: %v", m.err))
		return
	}
	info := gin.H{"Version": m.version, "Time": m.time}
	base := "/" + goModulePath + "/@v/"
	switch file := c.Param("file"); file {
	case "/" + goModulePath + "/@latest", base + m.version + ".info":
		c.JSON(http.StatusOK, info)
	case base + "list": // holds no pseudo-versions, by the protocol
		c.Data(http.StatusOK, "text/plain; charset=utf-8", nil)
	case base + m.version + ".mod":
		c.Data(http.StatusOK, "text/plain; charset=utf-8", m.mod)
	case base + m.version + ".zip":
		c.Data(http.StatusOK, "application/zip", m.zip)
	default: // go asks the next proxy then
		writeProblem(c, api.Fail(api.NotFound, "there is no %s in %s; it holds %s %s.", path.Base(file), goModulePath,
			goModulePath, m.version))
	}
}
