package edifact

import (
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"
)

// Interchange is what stands around messages (UNB).
type Interchange struct {
	Charset            string // syntax identifier, such as UNOC
	Version            string // of the syntax, such as 3
	Sender             string
	SenderQualifier    string // code list that the name is from, such as 14 for GLN
	Recipient          string
	RecipientQualifier string
	PreparedAt         time.Time // by the sender's clock; UTC is not said
	Reference          string    // interchange control reference
	Application        string    // application reference
	AcknowledgeWanted  bool      // the sender asks for CONTRL
	Test               bool
}

// Message is one message of an interchange, without the segments around it.
type Message struct {
	Reference string // message reference number
	Type      string // such as ORDERS
	Version   string // such as D
	Release   string // such as 96A
	Agency    string // controlling agency, such as UN
	Assigned  string // association assigned code, such as EAN008
	Segments  []Segment

	Err  error  // why it cannot be used: counts, references; others of its interchange are not concerned
	Code string // what CONTRL says of it then

	ends Segment // as its end came
}

// SameKind tells whether two messages are of one type and version.
func (m *Message) SameKind(o Message) bool {
	return m.Type == o.Type && m.Version == o.Version && m.Release == o.Release && m.Agency == o.Agency && m.Assigned == o.Assigned
}

// Error codes of CONTRL (UN/EDIFACT code list 0085) that we give.
const (
	errMissing     = "13"
	errUnspecified = "18"
	errReference   = "28" // references do not match
	errCount       = "29" // control count does not match
)

// Bounds of a message and of a stream.
const (
	maxSegments     = 200_000
	maxInterchanges = 100_000
)

// Handler takes what is read of a stream: Begin gets each envelope, Take each message as it is complete, End what is wrong with the
// interchange as a whole. An error of one of them ends the reading. Functional groups (UNG, UNE) are read through.
type Handler struct {
	Begin func(Interchange) error
	Take  func(Message) error
	End   func(in Interchange, err error) error
}

// Read reads all interchanges of a stream. Its error is that of the handler, or says where the stream is no EDIFACT any more; what
// was taken before stays taken.
func Read(from io.Reader, h Handler) error {
	r := NewReader(from)
	for n := 0; ; n++ {
		r.begun, r.sep, r.charset = false, Usual, charsets["UNOB"] // each may have separators of its own
		s, err := r.Next()
		if errors.Is(err, io.EOF) && n > 0 {
			return nil
		}
		switch {
		case errors.Is(err, io.EOF):
			return syntax("nothing is in it")
		case err != nil:
			return err
		case s.Tag != "UNB":
			return syntax("segment %d is %s, and UNB is expected", r.count, s.Tag)
		case n >= maxInterchanges:
			return syntax("more than %d interchanges", maxInterchanges)
		}
		if err := readInterchange(r, s, h); err != nil {
			return err
		}
	}
}

func readInterchange(r *Reader, unb Segment, h Handler) error {
	in := envelope(unb)
	if err := h.Begin(in); err != nil {
		return err
	}
	messages, groups := 0, 0
	for {
		s, err := r.Next()
		if errors.Is(err, io.EOF) {
			err = syntax("interchange %s has no end (UNZ)", in.Reference)
		}
		if err != nil {
			return ended(h.End(in, err), err)
		}
		switch s.Tag {
		case "UNG":
			groups++
		case "UNE":
		case "UNH":
			m, err := readMessage(r, s)
			if err != nil {
				return ended(h.End(in, err), err)
			}
			messages++
			if err := h.Take(m); err != nil {
				return err
			}
		case "UNZ":
			count := messages
			if groups > 0 {
				count = groups
			}
			return h.End(in, closed(in, s, count))
		default:
			err := syntax("segment %d is %s, and UNH or UNZ is expected", r.count, s.Tag)
			return ended(h.End(in, err), err)
		}
	}
}

// ended is what ends the reading: what is wrong with the stream, and what the handler makes of it, once where that is the same.
func ended(handler, stream error) error {
	if errors.Is(handler, stream) {
		return handler
	}
	return errors.Join(handler, stream)
}

// closed checks the end of an interchange.
func closed(in Interchange, unz Segment, count int) error {
	if said, err := strconv.Atoi(unz.At(1, 1)); err != nil || said != count {
		return syntax("interchange %s says %q messages, and has %d", in.Reference, unz.At(1, 1), count)
	}
	if unz.At(2, 1) != in.Reference {
		return syntax("interchange %s ends as %q", in.Reference, unz.At(2, 1))
	}
	return nil
}

func envelope(s Segment) Interchange {
	in := Interchange{Charset: s.At(1, 1), Version: s.At(1, 2), Sender: s.At(2, 1), SenderQualifier: s.At(2, 2), Recipient: s.At(3, 1),
		RecipientQualifier: s.At(3, 2), Reference: s.At(5, 1), Application: s.At(7, 1), AcknowledgeWanted: s.At(9, 1) == "1",
		Test: s.At(11, 1) == "1"}
	form := "060102:1504"
	if len(s.At(4, 1)) == 8 {
		form = "20060102:1504"
	}
	if at, err := time.Parse(form, s.At(4, 1)+":"+s.At(4, 2)); err == nil {
		in.PreparedAt = at
	}
	return in
}

// readMessage reads to the end of a message. What is wrong with its counts and references is its own error; one that does not end
// is an error of the stream.
func readMessage(r *Reader, unh Segment) (Message, error) {
	m := Message{Reference: unh.At(1, 1), Type: unh.At(2, 1), Version: unh.At(2, 2), Release: unh.At(2, 3), Agency: unh.At(2, 4),
		Assigned: unh.At(2, 5)}
	m.Segments = make([]Segment, 0, 32)
	for n := 2; ; n++ {
		s, err := r.Next()
		if errors.Is(err, io.EOF) {
			err = syntax("message %s has no end (UNT)", m.Reference)
		}
		if err != nil {
			return m, err
		}
		switch s.Tag {
		case "UNT":
			m.end(s, n)
			return m, nil
		case "UNH", "UNZ", "UNB":
			return m, syntax("segment %d is %s, and message %s has not ended", r.count, s.Tag, m.Reference)
		}
		if len(m.Segments) < maxSegments {
			m.Segments = append(m.Segments, s)
		} else if m.Err == nil {
			m.Segments = nil
			m.Err, m.Code = syntax("message %s has more than %d segments", m.Reference, maxSegments), errUnspecified
		}
	}
}

// end holds a message against what its end says of it.
func (m *Message) end(unt Segment, count int) {
	m.ends = unt
	switch said, err := strconv.Atoi(unt.At(1, 1)); {
	case m.Err != nil:
	case m.Type == "":
		m.Err, m.Code = syntax("message %s does not say what it is", m.Reference), errMissing
	case err != nil || said != count:
		m.Err, m.Code = syntax("message %s says %q segments, and has %d", m.Reference, unt.At(1, 1), count), errCount
	case unt.At(2, 1) != m.Reference:
		m.Err, m.Code = syntax("message %s ends as %q", m.Reference, unt.At(2, 1)), errReference
	}
}

// Kind is a message's type with its version, such as ORDERS D.96A.
func (m Message) Kind() string { return fmt.Sprintf("%s %s.%s", m.Type, m.Version, m.Release) }
