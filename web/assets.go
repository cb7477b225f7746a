package web

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"io/fs"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"
)

//go:embed static
var staticFiles embed.FS

// assetBuild names the assets by what is in them: a browser keeps them for a year, and
// asks for others as soon as any of them has changed.
func assetBuild() (string, error) {
	h := sha256.New()
	err := fs.WalkDir(staticFiles, "static", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := staticFiles.ReadFile(path)
		if err != nil {
			return err
		}
		h.Write([]byte(path))
		h.Write(data)
		return nil
	})
	return hex.EncodeToString(h.Sum(nil)[:6]), err
}

// asset is the address of an asset.
func (s *server) asset(name string) string { return "/static/" + s.build + "/" + name }

// serveAssets serves the assets of this build; those of another one are not here.
func (s *server) serveAssets(e *echo.Echo) error {
	static, err := fs.Sub(staticFiles, "static")
	if err != nil {
		return err
	}
	files := http.StripPrefix("/static/"+s.build+"/", http.FileServerFS(static))
	e.GET("/static/"+s.build+"/*", func(c *echo.Context) error {
		if strings.HasSuffix(c.Request().URL.Path, "/") {
			return echo.ErrNotFound // what is in a folder is nobody's business
		}
		c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		files.ServeHTTP(c.Response(), c.Request())
		return nil
	})
	return nil
}
