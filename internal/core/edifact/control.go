package edifact

import "cmp"

// Outcome is what became of one message of an interchange.
type Outcome struct {
	Reference string
	Kind      *Message // its type and version; those of one kind may share it
	Code      string   // error code of the code list 0085 where it was rejected; empty: it was taken
}

// Acknowledge answers an interchange (CONTRL, UN/EDIFACT D.3): what was taken and what was not. whole is an error code where the
// interchange as a whole was rejected.
func Acknowledge(in Interchange, outcomes []Outcome, whole, reference string) Message {
	const taken, rejected = "7", "4"
	action := taken
	if whole != "" {
		action = rejected
	}
	uci := [][]string{{in.Reference}, {in.Sender, in.SenderQualifier}, {in.Recipient, in.RecipientQualifier}, {action}, {whole}}
	m := Message{Reference: cmp.Or(reference, "1"), Type: "CONTRL", Version: "D", Release: "3", Agency: "UN",
		Segments: []Segment{{"UCI", uci}}}
	for _, o := range outcomes {
		action := taken
		if o.Code != "" {
			action = rejected
		}
		m.Segments = append(m.Segments, Segment{"UCM", [][]string{{o.Reference},
			{o.Kind.Type, o.Kind.Version, o.Kind.Release, o.Kind.Agency, o.Kind.Assigned}, {action}, {o.Code}}})
	}
	return m
}

// Acknowledged is what a CONTRL says of an interchange that we sent.
type Acknowledged struct {
	Reference string            // of the interchange
	Taken     bool              // as a whole: acknowledged or received
	Code      string            // why not
	Rejected  map[string]string // messages that were not taken, by their reference, with the error code
}

// Acknowledgement reads a CONTRL.
func (m Message) Acknowledgement() (Acknowledged, error) {
	out := Acknowledged{Rejected: map[string]string{}}
	if m.Type != "CONTRL" || m.Err != nil {
		return out, syntax("message %s is no CONTRL that can be read", m.Reference)
	}
	for _, s := range m.Segments {
		switch s.Tag {
		case "UCI":
			out.Reference, out.Code = s.At(1, 1), s.At(5, 1)
			out.Taken = s.At(4, 1) == "7" || s.At(4, 1) == "8"
		case "UCM":
			if s.At(3, 1) == "4" {
				out.Rejected[s.At(1, 1)] = s.At(4, 1)
			}
		}
	}
	if out.Reference == "" {
		return out, syntax("message %s does not say which interchange it answers", m.Reference)
	}
	return out, nil
}
