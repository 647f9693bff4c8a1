package connector

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/webdav"

	"openrelay/internal/core/message"
)

// davServer is a place over HTTP on a folder, which lets in who knows the password.
func davServer(t *testing.T, dir string) *httptest.Server {
	t.Helper()
	place := &webdav.Handler{Prefix: "/yard", FileSystem: webdav.Dir(dir), LockSystem: webdav.NewMemLS()}
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if name, password, _ := r.BasicAuth(); name != "relay" || password != "honey" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		if strings.HasSuffix(r.URL.Path, "LEV9.csv") && r.Method == http.MethodGet {
			http.Redirect(w, r, "http://127.0.0.1:1/elsewhere", http.StatusFound)
			return
		}
		place.ServeHTTP(w, r)
	}))
	t.Cleanup(srv.Close)
	return srv
}

// overHTTP is the yard of the tests of folders, whose files lie at a place over HTTP.
func overHTTP(t *testing.T, password string) *yardTray {
	t.Helper()
	y := newTray(t)
	def, err := Load("tray.yaml", []byte(tray[:strings.Index(tray, "access:")]+`access:
  way: files
  fields: [ { name: user, label: User }, { name: password, label: Password, secret: true } ]
  basic: { name: secret.user, password: secret.password }
`+strings.Replace(tray[strings.Index(tray, "format:"):], "max_body: 1KB", "max_body: 1KB, per_second: 1000, burst: 1000", 1)), nil)
	require.NoError(t, err)
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	y.line, err = NewLine(def, LineOptions{Base: davServer(t, y.dir).URL + "/yard", Now: func() time.Time { return y.at },
		Login: NewLogin(def, map[string]string{"user": "relay", "password": password}, Token{}), Client: client})
	require.NoError(t, err)
	return y
}

// readTwice reads, and once more when what lies there has settled.
func (y *yardTray) readTwice() {
	y.t.Helper()
	for range 2 {
		_, err := y.read(message.StockIn)
		require.NoError(y.t, err)
		y.at = y.at.Add(3 * time.Second)
	}
}

// TestFilesOverHTTP are listed, read, put away and written as those of a folder are.
func TestFilesOverHTTP(t *testing.T) {
	y := overHTTP(t, "honey")
	y.put("LEV1.csv", "sku;n\nJAR;4\n")
	y.put("LEV2.csv.part", "sku;n\nPOT;1\n")
	y.readTwice()
	require.Equal(t, []string{"LEV1.csv"}, []string{y.took[0].Name})
	require.NotEmpty(t, y.kept)
	require.NotContains(t, y.names("out"), "LEV1.csv", "it is put away")
	require.Contains(t, y.names("out"), "LEV2.csv.part")
	y.put("LEV3.csv", "sku;n\nJAR;4\n")
	y.readTwice()
	require.True(t, y.took[1].Again, "the same content, under another name")
	files, err := y.line.openFiles(t.Context())
	require.NoError(t, err)
	defer files.Close()
	require.NoError(t, files.Make(t.Context(), "in/new"))
	require.NoError(t, files.Put(t.Context(), "in/new/A.csv", "in/new/A.csv.part", []byte("one")))
	require.NoError(t, files.Put(t.Context(), "in/new/A.csv", "in/new/A.csv.part", []byte("two")))
	raw, err := os.ReadFile(filepath.Join(y.dir, "in", "new", "A.csv"))
	require.NoError(t, err)
	require.Equal(t, "two", string(raw))
	has, err := files.Has(t.Context(), "in/new/A.csv.part")
	require.NoError(t, err)
	require.False(t, has)
}

// TestAPlaceThatLetsNobodyIn says so, and one that leads elsewhere is not followed with what lets us in.
func TestAPlaceThatLetsNobodyIn(t *testing.T) {
	y := overHTTP(t, "wrong")
	_, err := y.read(message.StockIn)
	require.ErrorContains(t, err, "does not let us in")
	y = overHTTP(t, "honey")
	y.put("LEV9.csv", "sku;n\nJAR;4\n")
	_, _ = y.read(message.StockIn)
	y.at = y.at.Add(time.Minute)
	_, err = y.read(message.StockIn)
	require.ErrorContains(t, err, "another host")
	require.Empty(t, y.kept)
}
