package web_test

import (
	"archive/zip"
	"bytes"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/bindings/python"
	"kembrel/web"
)

// The service hands out a wheel for its own platform, one for each binary that lies in the folder, and one without any.
func TestWheels(t *testing.T) {
	s := serve(t)
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "kembrel-darwin-arm64"), []byte("a binary"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "kembrel-plan9-386"),
		[]byte("of none that Python knows"), 0o755))
	handler := web.New(s.service, web.Options{Log: slog.New(slog.DiscardHandler), Version: "v1.2-3-gabc-dirty",
		Python: python.Files, Platforms: folder}).Handler()
	server := httptest.NewServer(handler)
	defer server.Close()
	get := func(path string) (int, []byte) {
		r, err := http.Get(server.URL + path)
		require.NoError(t, err)
		defer r.Body.Close()
		content, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		return r.StatusCode, content
	}
	status, page := get("/python/")
	require.Equal(t, http.StatusOK, status)
	names := map[string]string{}
	for _, m := range regexp.MustCompile(`href="([^"]+)">kembrel-1\.0\+v1\.2\.3\.gabc\.dirty-py3-none-([a-z0-9_]+)\.whl`).FindAllStringSubmatch(string(page), -1) {
		names[m[2]] = m[1]
	}
	require.Len(t, names, 3, string(page))
	require.Contains(t, names, "macosx_12_0_arm64")
	members := func(tag string) map[string]string {
		status, wheel := get("/python/" + names[tag])
		require.Equal(t, http.StatusOK, status)
		archive, err := zip.NewReader(bytes.NewReader(wheel), int64(len(wheel)))
		require.NoError(t, err)
		out := map[string]string{}
		for _, f := range archive.File {
			if strings.HasSuffix(f.Name, "scripts/kembrel") && tag != "macosx_12_0_arm64" {
				out["binary"] = ""
				continue
			}
			r, err := f.Open()
			require.NoError(t, err)
			content, err := io.ReadAll(r)
			require.NoError(t, err)
			out[f.Name[strings.LastIndex(f.Name, "/")+1:]] = string(content)
		}
		return out
	}
	mac := members("macosx_12_0_arm64")
	require.Equal(t, "a binary", mac["kembrel"])
	require.Contains(t, mac["WHEEL"], "Root-Is-Purelib: false\nTag: py3-none-macosx_12_0_arm64")
	pure := members("any")
	require.NotContains(t, pure, "binary")
	require.Contains(t, pure["WHEEL"], "Root-Is-Purelib: true\nTag: py3-none-any")
	require.Contains(t, pure, "_run.py")
	own := members(map[string]string{"amd64": "linux_x86_64", "arm64": "linux_aarch64"}[runtime.GOARCH])
	require.Contains(t, own, "binary")
	status, _ = get("/python/kembrel-1.0-py3-none-any.whl")
	require.Equal(t, http.StatusNotFound, status)
}
