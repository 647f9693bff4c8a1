// Package printing speaks the Internet Printing Protocol (IPP/1.1, RFC 8010 and RFC 8011) to printers: it prints documents, and asks
// whether a job of a name is known. It keeps no queue and draws nothing.
package printing

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/OpenPrinting/goipp"
)

// Formats of documents (RFC 8011, section 5.1.10).
const (
	PDF = "application/pdf"
	PNG = "image/png"
	Raw = "application/octet-stream" // a printer's own language, passed through unchanged
)

// mostAnswer bounds what is read of a printer's answer; patience is for how long one is waited for.
const (
	mostAnswer = 4 << 20
	patience   = 15 * time.Second
)

// Client prints.
type Client struct {
	HTTP *http.Client
	User string // requesting-user-name
}

// Job is a document on its way to a printer.
type Job struct {
	Name     string // by which it is found again
	Format   string
	Document []byte
	Copies   int // 0: one
}

// Printer is what a printer says of itself.
type Printer struct {
	Name    string
	State   string // idle, processing or stopped
	Reasons []string
	Formats []string
}

// Refusal is a printer's answer that it does not do what was asked.
type Refusal struct{ Status string }

func (r *Refusal) Error() string { return "the printer refuses: " + r.Status }

// httpURL is where the printer of an ipp or ipps address is reached (RFC 3510, section 4.4).
func httpURL(printer string) (string, error) {
	u, err := url.Parse(printer)
	if err != nil || u.Host == "" {
		return "", fmt.Errorf("%q: an address such as ipp://printer.example:631/printers/bench is expected", printer)
	}
	switch u.Scheme {
	case "ipp":
		u.Scheme = "http"
	case "ipps":
		u.Scheme = "https"
	default:
		return "", fmt.Errorf("%q: an address that begins with ipp:// or ipps:// is expected", printer)
	}
	if u.Port() == "" {
		u.Host += ":631"
	}
	return u.String(), nil
}

// CheckAddress refuses what is no printer's address.
func CheckAddress(printer string) error {
	_, err := httpURL(printer)
	return err
}

func (c *Client) request(op goipp.Op, printer string) *goipp.Message {
	m := goipp.NewRequest(goipp.DefaultVersion, op, uint32(time.Now().UnixNano()&0x7fffffff))
	m.Operation.Add(goipp.MakeAttribute("attributes-charset", goipp.TagCharset, goipp.String("utf-8")))
	m.Operation.Add(goipp.MakeAttribute("attributes-natural-language", goipp.TagLanguage, goipp.String("en")))
	m.Operation.Add(goipp.MakeAttribute("printer-uri", goipp.TagURI, goipp.String(printer)))
	m.Operation.Add(goipp.MakeAttribute("requesting-user-name", goipp.TagName, goipp.String(c.User)))
	return m
}

// send sends a request with a document and reads the answer.
func (c *Client) send(ctx context.Context, printer string, m *goipp.Message, document []byte) (*goipp.Message, error) {
	to, err := httpURL(printer)
	if err != nil {
		return nil, err
	}
	head, err := m.EncodeBytes()
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to, io.MultiReader(bytes.NewReader(head), bytes.NewReader(document)))
	if err != nil {
		return nil, err
	}
	req.ContentLength = int64(len(head) + len(document))
	req.Header.Set("Content-Type", goipp.ContentType)
	res, err := c.HTTP.Do(req)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, &Refusal{fmt.Sprintf("HTTP %d", res.StatusCode)}
	}
	var answer goipp.Message
	if err := answer.Decode(io.LimitReader(res.Body, mostAnswer)); err != nil {
		return nil, fmt.Errorf("what the printer answers is no IPP: %w", err)
	}
	if status := goipp.Status(answer.Code); status >= goipp.StatusErrorBadRequest {
		return &answer, &Refusal{strings.TrimPrefix(status.String(), "client-error-")}
	}
	return &answer, nil
}

// Print prints a document (Print-Job).
func (c *Client) Print(ctx context.Context, printer string, j Job) error {
	m := c.request(goipp.OpPrintJob, printer)
	m.Operation.Add(goipp.MakeAttribute("job-name", goipp.TagName, goipp.String(j.Name)))
	m.Operation.Add(goipp.MakeAttribute("document-format", goipp.TagMimeType, goipp.String(j.Format)))
	if j.Copies > 1 {
		m.Job.Add(goipp.MakeAttribute("copies", goipp.TagInteger, goipp.Integer(j.Copies)))
	}
	_, err := c.send(ctx, printer, m, j.Document)
	return err
}

// Knows tells whether a printer has, or had, a job of a name (Get-Jobs): after an answer that was lost, it may have printed it.
func (c *Client) Knows(ctx context.Context, printer, name string) (bool, error) {
	for _, which := range []string{"not-completed", "completed"} {
		m := c.request(goipp.OpGetJobs, printer)
		m.Operation.Add(goipp.MakeAttribute("limit", goipp.TagInteger, goipp.Integer(200)))
		m.Operation.Add(goipp.MakeAttribute("which-jobs", goipp.TagKeyword, goipp.String(which)))
		m.Operation.Add(goipp.MakeAttribute("requested-attributes", goipp.TagKeyword, goipp.String("job-name")))
		answer, err := c.send(ctx, printer, m, nil)
		if err != nil {
			return false, err
		}
		for _, g := range answer.Groups {
			for _, a := range g.Attrs {
				if a.Name == "job-name" && len(a.Values) > 0 && a.Values[0].V.String() == name {
					return true, nil
				}
			}
		}
	}
	return false, nil
}

// Look asks a printer about itself (Get-Printer-Attributes).
func (c *Client) Look(ctx context.Context, printer string) (p Printer, err error) {
	m := c.request(goipp.OpGetPrinterAttributes, printer)
	want := goipp.MakeAttribute("requested-attributes", goipp.TagKeyword, goipp.String("printer-name"))
	for _, name := range []string{"printer-state", "printer-state-reasons", "document-format-supported"} {
		want.Values.Add(goipp.TagKeyword, goipp.String(name))
	}
	m.Operation.Add(want)
	answer, err := c.send(ctx, printer, m, nil)
	if err != nil {
		return p, err
	}
	for _, a := range answer.Printer {
		var values []string
		for _, v := range a.Values {
			values = append(values, v.V.String())
		}
		switch a.Name {
		case "printer-name":
			p.Name = strings.Join(values, " ")
		case "printer-state":
			p.State = map[string]string{"3": "idle", "4": "processing", "5": "stopped"}[strings.Join(values, "")]
		case "printer-state-reasons":
			p.Reasons = values
		case "document-format-supported":
			p.Formats = values
		}
	}
	return p, nil
}
