package connector

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"openrelay/internal/core/edifact"
)

// Acknowledge says by which file the other side is told what became of one of its.
type Acknowledge struct {
	File    string `yaml:"file"` // its name, with {expressions} on file
	When    Expr   `yaml:"when"` // always, where it is not set; of control, where the interchange asks for it
	Control bool   `yaml:"control"`
	Body    Tree   `yaml:"body"`
	Format  Format `yaml:"format"`

	request Request // that is written
}

func (a *Acknowledge) compile(l *language, what string) {
	l.at(account, []string{"file"})
	l.compile(&a.When, what+".when")
	a.request = Request{File: a.File, Body: a.Body, Format: a.Format}
	a.request.compile(l, what)
	switch {
	case a.Control && a.Body.Set():
		l.complain(0, 0, what+".body", "control says itself what is in it")
	case !a.Control && !a.Body.Set():
		l.complain(0, 0, what, "body is missing: what the other side is told; of EDIFACT control: true")
	}
}

// interchangeLook is what an interchange of a file came to.
type interchangeLook struct {
	in       edifact.Interchange
	outcomes []edifact.Outcome
	whole    string // error code of code list 0085 where it is wrong as a whole
}

// errUnspecified is the code of what is wrong in a way that has none of its own (UN/EDIFACT code list 0085).
const errUnspecified = "18"

// errInvalid is that of a message in which something has no value that can be used.
const errInvalid = "12"

// lookEDIFACT tells what stands in a file, without keeping it. Its error says where it is no EDIFACT any more.
func lookEDIFACT(from io.Reader) (out []interchangeLook, err error) {
	err = edifact.Read(from, edifact.Handler{
		Begin: func(in edifact.Interchange) error { out = append(out, interchangeLook{in: in}); return nil },
		Take: func(m edifact.Message) error {
			at := &out[len(out)-1]
			at.outcomes = append(at.outcomes, edifact.Outcome{Reference: strings.Clone(m.Reference), Kind: at.kindOf(m), Code: m.Code})
			return nil
		},
		End: func(_ edifact.Interchange, err error) error {
			if err != nil {
				out[len(out)-1].whole = errUnspecified
			}
			return nil
		},
	})
	return out, err
}

// kindOf is the kind of a message. Those that follow each other share it: an interchange has many of one kind.
func (in *interchangeLook) kindOf(m edifact.Message) *edifact.Message {
	kind := edifact.Message{Type: m.Type, Version: m.Version, Release: m.Release, Agency: m.Agency, Assigned: m.Assigned}
	if n := len(in.outcomes); n > 0 {
		if last := in.outcomes[n-1].Kind; last.SameKind(kind) {
			return last
		}
	}
	return &kind
}

// takesKind tells whether a feed takes messages of a kind.
func takesKind(items, kind string) bool {
	of, _, _ := strings.Cut(items, "/")
	return of == "" || of == "messages" || of == kind
}

// groupsIn are the groups of each message that are its records, where items is like INVRPT/LIN CNT: with what begins one, and what ends
// the last of them.
func groupsIn(items string) (begins, until string, grouped bool) {
	_, groups, grouped := strings.Cut(items, "/")
	begins, until, _ = strings.Cut(groups, " ")
	return begins, until, grouped
}

// acknowledge tells the other side what became of the file, where that was agreed on. A file that came again is acknowledged again:
// whoever sends one twice may not have been told.
func (x *fileIntake) acknowledge(ctx context.Context) error {
	a := x.read().Files.Acknowledge
	if a == nil {
		return nil
	}
	file := map[string]any{"name": x.taken.Name, "size": x.taken.Size, "records": int64(x.taken.Records), "wrong": int64(x.taken.Wrong),
		"taken": x.taken.Wrong == 0, "hash": x.taken.Hash, "reasons": reasonsOf(x.taken.Bad)}
	if !a.Control {
		return x.tell(ctx, a, file, nil)
	}
	if x.prep == nil {
		content, err := x.open(ctx)
		if err != nil {
			return err
		}
		defer content.Close()
		if x.prep, err = lookEDIFACT(content); len(x.prep) == 0 {
			return nil // it is none: there is nobody to be told
		}
		_ = err // it is said in the outcome
	}
	record := 0
	for _, in := range x.prep {
		if len(in.outcomes) > 0 && in.outcomes[0].Kind.Type == "CONTRL" {
			continue // a CONTRL is never answered by one
		}
		for i := range in.outcomes {
			if o := &in.outcomes[i]; takesKind(x.read().Items, o.Kind.Type) {
				if x.bad[record] && o.Code == "" {
					o.Code = errInvalid
				}
				record++
			}
		}
		file["reference"], file["sender"], file["recipient"] = in.in.Reference, in.in.Sender, in.in.Recipient
		file["wanted"], file["test"] = in.in.AcknowledgeWanted, in.in.Test
		body, err := x.control(in)
		if err != nil {
			return err
		}
		if err := x.tell(ctx, a, file, body); err != nil {
			return err
		}
	}
	return nil
}

func reasonsOf(list []error) []any {
	out := []any{}
	for _, err := range list {
		out = append(out, err.Error())
	}
	return out
}

// control writes the CONTRL that answers an interchange.
func (x *fileIntake) control(look interchangeLook) ([]byte, error) {
	in := look.in
	reference, err := digest(in.Sender+"/"+in.Reference, 14)
	if err != nil {
		return nil, err
	}
	return edifact.Write(edifact.Interchange{Charset: "UNOC", Version: in.Version, Sender: in.Recipient,
		SenderQualifier: in.RecipientQualifier, Recipient: in.Sender, RecipientQualifier: in.SenderQualifier, Reference: reference,
		PreparedAt: x.prepared(), Test: in.Test}, []edifact.Message{edifact.Acknowledge(in, look.outcomes, look.whole, "1")})
}

// tell writes an acknowledgement, unless it is not wanted. body is what it says where the definition does not.
func (x *fileIntake) tell(ctx context.Context, a *Acknowledge, file map[string]any, body []byte) error {
	v := x.vars()
	v["file"] = file
	wanted := !a.Control || file["wanted"] == true
	if a.When.Set() {
		out, err := a.When.Eval(v)
		if err != nil {
			return fmt.Errorf("when: %w", err)
		}
		wanted = out == true
	}
	if !wanted {
		return nil
	}
	name, said, err := x.fileOf(&a.request, v)
	if err != nil {
		return err
	}
	if body == nil {
		body = said
	}
	if err := writeFile(ctx, x.files, name, body); err != nil {
		return err
	}
	if x.rd.Wrote == nil {
		return nil
	}
	return x.rd.Wrote(x.fileExchange(name, body))
}

// errEmptyReceipt is that of a file whose receipt would name nothing.
var errEmptyReceipt = errors.New("receipt.reference has no value")

// receiptOf is the reference that the receipt of a file will name; "" where none comes.
func (s *Send) receiptOf(v Vars) (string, error) {
	if s.Receipt == nil {
		return "", nil
	}
	out, err := s.Receipt.Reference.Eval(v)
	if err != nil {
		return "", err
	}
	if n, ok := out.(int64); ok {
		return strconv.FormatInt(n, 10), nil
	}
	if text := textOf(out); text != "" {
		return text, nil
	}
	return "", errEmptyReceipt
}
