package printing

import (
	"bytes"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"github.com/stretchr/testify/require"
)

// cups starts a print server of one's own with one printer that writes PDF, and returns its address.
func cups(t *testing.T) (printer string) {
	t.Helper()
	for _, program := range []string{"/usr/sbin/cupsd", "/usr/lib/cups/backend/cups-pdf"} {
		if _, err := os.Stat(program); err != nil {
			t.Skip("there is no print server here: " + program + " (make printserver installs it)")
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	require.NoError(t, l.Close())
	dir, err := os.MkdirTemp("", "openrelay-cups-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	for _, d := range []string{"spool", "spool/tmp", "cache", "run", "etc", "etc/ppd", "log"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, d), 0o755))
	}
	description, err := os.ReadFile("/usr/share/ppd/cups-pdf/CUPS-PDF_opt.ppd")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "etc/ppd/bench.ppd"), description, 0o644))
	files := fmt.Sprintf("FileDevice Yes\nServerRoot %[1]s/etc\nRequestRoot %[1]s/spool\nTempDir %[1]s/spool/tmp\nCacheDir %[1]s/cache\n"+
		"StateDir %[1]s/run\nAccessLog %[1]s/log/access\nErrorLog %[1]s/log/error\nPageLog %[1]s/log/page\nSystemGroup root\n", dir)
	conf := fmt.Sprintf(
		"Listen %s\nLogLevel warn\nMaxLogSize 0\n"+
			"Browsing No\nDefaultAuthType None\nWebInterface No\nPreserveJobHistory Yes\n"+
			"<Location />\nOrder allow,deny\nAllow all\n</Location>\n"+
			"<Policy default>\n<Limit All>\nOrder deny,allow\n</Limit>\n</Policy>\n",
		address,
	)
	printers := "<Printer bench>\n" +
		"Info bench\nDeviceURI cups-pdf:/\nState Idle\nAccepting Yes\nShared No\n</Printer>\n"
	for name, text := range map[string]string{"cups-files.conf": files, "cupsd.conf": conf, "etc/printers.conf": printers} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	server := exec.Command("/usr/sbin/cupsd", "-f", "-c", filepath.Join(dir, "cupsd.conf"), "-s", filepath.Join(dir, "cups-files.conf"))
	require.NoError(t, server.Start())
	t.Cleanup(func() { _ = server.Process.Kill(); _ = server.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.DialTimeout("tcp", address, time.Second)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 30*time.Second, 50*time.Millisecond, "the print server starts")
	return "ipp://" + address + "/printers/bench"
}

// printedBy are the files that the print server made of a job: those of people whom the machine does not know lie in one place.
func printedBy(t *testing.T, name string) []string {
	t.Helper()
	list, err := filepath.Glob("/var/spool/cups-pdf/ANONYMOUS/*" + name + "*")
	require.NoError(t, err)
	return list
}

// TestARealPrintServer prints a document, knows it by its name, and says how it is.
func TestARealPrintServer(t *testing.T) {
	printer := cups(t)
	c := &Client{HTTP: http.DefaultClient, User: "openrelay"}
	ctx := t.Context()
	p, err := c.Look(ctx, printer)
	require.NoError(t, err)
	require.Equal(t, "bench", p.Name)
	require.Equal(t, "idle", p.State)
	require.Contains(t, p.Formats, PDF)
	name := fmt.Sprintf("openrelay-test-%d", time.Now().UnixNano())
	known, err := c.Knows(ctx, printer, name)
	require.NoError(t, err)
	require.False(t, known)
	var page bytes.Buffer
	pdf := fpdf.New("P", "mm", "A4", "")
	pdf.AddPage()
	pdf.SetFont("Helvetica", "", 20)
	pdf.Text(20, 20, "A label")
	require.NoError(t, pdf.Output(&page))
	require.NoError(t, c.Print(ctx, printer, Job{Name: name, Format: PDF, Document: page.Bytes(), Copies: 1}))
	require.Eventually(t, func() bool { return len(printedBy(t, name)) == 1 }, 60*time.Second, 50*time.Millisecond, "it is printed")
	t.Cleanup(func() { os.Remove(printedBy(t, name)[0]) })
	known, err = c.Knows(ctx, printer, name)
	require.NoError(t, err)
	require.True(t, known)
	var refusal *Refusal
	require.ErrorAs(t, c.Print(ctx, printer+"-gone", Job{Name: "x", Format: PDF, Document: page.Bytes()}), &refusal)
}
