package standin_test

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/OpenPrinting/goipp"
	"github.com/stretchr/testify/require"

	"openrelay/internal/standin"
)

// ipp asks a printer something; nil: it gave no answer.
func ipp(t *testing.T, address string, op goipp.Op, name string, document string) *goipp.Message {
	t.Helper()
	m := goipp.NewRequest(goipp.DefaultVersion, op, 1)
	m.Operation.Add(goipp.MakeAttribute("attributes-charset", goipp.TagCharset, goipp.String("utf-8")))
	m.Operation.Add(goipp.MakeAttribute("attributes-natural-language", goipp.TagLanguage, goipp.String("en")))
	m.Operation.Add(goipp.MakeAttribute("job-name", goipp.TagName, goipp.String(name)))
	m.Operation.Add(goipp.MakeAttribute("document-format", goipp.TagMimeType, goipp.String("application/pdf")))
	raw, err := m.EncodeBytes()
	require.NoError(t, err)
	res, err := http.Post(address+"/printers/bench", goipp.ContentType, io.MultiReader(bytes.NewReader(raw), strings.NewReader(document)))
	if err != nil {
		return nil
	}
	defer res.Body.Close()
	var out goipp.Message
	require.NoError(t, out.Decode(res.Body))
	return &out
}

// TestAPrinterPrints what it is sent, knows its jobs, and gives no answer while it is off.
func TestAPrinterPrints(t *testing.T) {
	p := standin.NewPrinter()
	srv := httptest.NewServer(p)
	defer srv.Close()
	require.Equal(t, goipp.StatusOk, goipp.Status(ipp(t, srv.URL, goipp.OpPrintJob, "label 7", "%PDF-1.4 seven").Code))
	jobs := ipp(t, srv.URL, goipp.OpGetJobs, "", "")
	require.Equal(t, "label 7", jobs.Job[0].Values[0].V.String())
	look := ipp(t, srv.URL, goipp.OpGetPrinterAttributes, "", "")
	require.Equal(t, "bench", look.Printer[0].Values[0].V.String())
	require.Equal(t, goipp.StatusErrorOperationNotSupported, goipp.Status(ipp(t, srv.URL, goipp.OpPausePrinter, "", "").Code))
	p.SwitchOff(true)
	require.Nil(t, ipp(t, srv.URL, goipp.OpPrintJob, "label 8", "%PDF-1.4 eight"))
	p.SwitchOff(false)
	p.Misbehave(standin.Faults{LoseAnswer: true, Count: 1})
	require.Nil(t, ipp(t, srv.URL, goipp.OpPrintJob, "label 9", "%PDF-1.4 nine"))
	require.Equal(t, 2, p.Printed(), "a lost answer is no lost sheet")
	res, err := http.Get(srv.URL + "/control")
	require.NoError(t, err)
	page, _ := io.ReadAll(res.Body)
	require.Contains(t, string(page), "2 documents came out")
	res, err = http.Get(srv.URL + "/control/sheets/2")
	require.NoError(t, err)
	sheet, _ := io.ReadAll(res.Body)
	require.Equal(t, "%PDF-1.4 nine", string(sheet))
}
