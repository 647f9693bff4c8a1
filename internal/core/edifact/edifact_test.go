package edifact

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// taken is what a stream came to.
type taken struct {
	interchanges []Interchange
	messages     []Message
	ends         []error
}

func readAll(text string) (taken, error) {
	var out taken
	err := Read(strings.NewReader(text), Handler{
		Begin: func(in Interchange) error { out.interchanges = append(out.interchanges, in); return nil },
		Take:  func(m Message) error { out.messages = append(out.messages, m); return nil },
		End:   func(_ Interchange, err error) error { out.ends = append(out.ends, err); return nil },
	})
	return out, err
}

const order = `UNA:+.? '
UNB+UNOC:3+2007100000018:14+2007100000025:14+261123:0727+MH40001++ORDERS++1++1'
UNH+1+ORDERS:D:96A:UN:EAN008'
BGM+220+MH-1024+9'
DTM+137:202611230727:203'
NAD+BY+2007100000018::9'
FTX+AAI+++It?'s for Zo` + "\xeb" + `?: ring twice?+wait?? ?''
LIN+1++2007100014508:EN'
QTY+21:12'
UNS+S'
UNT+9+1'
UNZ+1+MH40001'
`

func TestAnInterchangeIsRead(t *testing.T) {
	got, err := readAll(order)
	require.NoError(t, err)
	require.Equal(t, []error{nil}, got.ends)
	require.Equal(t, Interchange{Charset: "UNOC", Version: "3", Sender: "2007100000018", SenderQualifier: "14",
		Recipient: "2007100000025", RecipientQualifier: "14", PreparedAt: time.Date(2026, 11, 23, 7, 27, 0, 0, time.UTC),
		Reference: "MH40001", Application: "ORDERS", AcknowledgeWanted: true, Test: true}, got.interchanges[0])
	m := got.messages[0]
	require.NoError(t, m.Err)
	require.Equal(t, "ORDERS D.96A", m.Kind())
	require.Equal(t, "EAN008", m.Assigned)
	require.Len(t, m.Segments, 7)
	require.Equal(t, Segment{"NAD", [][]string{{"BY"}, {"2007100000018", "", "9"}}}, m.Segments[2])
	require.Equal(t, "It's for Zoë: ring twice+wait? '", m.Segments[3].At(4, 1), "released characters stand for themselves")
	require.Equal(t, []string{"", "", ""}, []string{m.Segments[0].At(9, 1), m.Segments[0].At(0, 1), m.Segments[0].At(1, 2)})
}

// TestSeparatorsOfItsOwn: another sender uses other ones, no release character, and no new lines.
func TestSeparatorsOfItsOwn(t *testing.T) {
	text := "UNA|*,  ~UNB*UNOB|1*A*B*261123|0727*7~UNH*1*INVRPT|D|96A|UN~BGM*35*X:1+2'~UNT*3*1~UNZ*1*7~"
	got, err := readAll(text)
	require.NoError(t, err)
	require.Equal(t, "X:1+2'", got.messages[0].Segments[0].At(2, 1))
	for una, says := range map[string]string{"UNA::.? '": "twice", "UNAA+.? '": "names \"A\"", "UNA +.? '": "names \" \""} {
		_, err := readAll(una + "UNB+UNOB:1+A+B+261123:0727+7'UNZ+0+7'")
		require.ErrorContains(t, err, says)
	}
}

func TestCharacterSets(t *testing.T) {
	for set, raw := range map[string]string{"UNOC": "Z\xfcrich", "UNOD": "\xa3\xf3d\xbc", "UNOE": "\xbc\xd8\xe0", "UNOY": "Ζürich 蜂"} {
		got, err := readAll("UNB+" + set + ":3+A+B+261123:0727+7'UNH+1+ORDERS:D:96A:UN'FTX+AAI+++" + raw + "'UNT+3+1'UNZ+1+7'")
		require.NoError(t, err, set)
		want := map[string]string{"UNOC": "Zürich", "UNOD": "Łódź", "UNOE": "Мир", "UNOY": "Ζürich 蜂"}[set]
		require.Equal(t, want, got.messages[0].Segments[0].At(4, 1))
	}
	_, err := readAll("UNB+UNOY:3+A+B+261123:0727+7'UNH+1+ORDERS:D:96A:UN'FTX+AAI+++\xff\xfe'UNT+3+1'UNZ+1+7'")
	require.ErrorContains(t, err, "not UTF-8")
	_, err = readAll("UNB+UNOX:3+A+B+261123:0727+7'UNZ+0+7'")
	require.ErrorContains(t, err, `the character set "UNOX" is not known`)
	for set, want := range map[string]string{"UNOA": "FTX+STRASSE 4, OSTERODE EE'", "UNOB": "FTX+Strasse 4, Osterode ee'",
		"UNOC": "FTX+Stra\xdfe 4, \xd6sterode \xe9\xe8'", "UNOY": "FTX+Straße 4, Österode éè'"} {
		out, err := Write(Interchange{Charset: set, Sender: "A", Recipient: "B", Reference: "1"},
			[]Message{{Type: "ORDERS", Segments: []Segment{{"FTX", [][]string{{"Straße 4, Österode éè"}}}}}})
		require.NoError(t, err)
		require.Contains(t, string(out), want, set)
	}
	_, err = Write(Interchange{Charset: "UNOC", Sender: "A", Recipient: "B", Reference: "1"},
		[]Message{{Type: "ORDERS", Segments: []Segment{{"FTX", [][]string{{"蜂"}}}}}})
	require.ErrorContains(t, err, `FTX: no EDIFACT: UNOC has no '蜂'`, "what cannot be written is not left out in silence")
}

// TestOneBadMessageOfTen has its own error; those before and behind it are as good as they were.
func TestOneBadMessageOfTen(t *testing.T) {
	for bad, c := range map[string]struct{ says, code string }{
		"UNT+4+4'": {`says "4" segments, and has 3`, errCount}, "UNT+x+4'": {`says "x" segments`, errCount},
		"UNT+3+5'": {`message 4 ends as "5"`, errReference},
	} {
		var b strings.Builder
		b.WriteString("UNB+UNOC:3+A+B+261123:0727+7'")
		for i := 1; i <= 10; i++ {
			end := fmt.Sprintf("UNT+3+%d'", i)
			if i == 4 {
				end = bad
			}
			fmt.Fprintf(&b, "UNH+%d+DESADV:D:96A:UN'BGM+351+D-%d+9'%s", i, i, end)
		}
		b.WriteString("UNZ+10+7'")
		got, err := readAll(b.String())
		require.NoError(t, err)
		require.Len(t, got.messages, 10)
		require.NoError(t, got.ends[0])
		for i, m := range got.messages {
			if i == 3 {
				require.ErrorContains(t, m.Err, c.says)
				require.Equal(t, c.code, m.Code)
			} else {
				require.NoError(t, m.Err)
			}
		}
	}
}

func TestWhatIsNoInterchange(t *testing.T) {
	whole := strings.TrimSpace(order)
	for text, says := range map[string]string{
		"":                   "nothing is in it",
		"hello there":        "it ends in the middle of segment 1",
		"<xml/>'":            "is no tag of a segment",
		"UNH+1+ORDERS'":      "UNB is expected",
		whole[:len(whole)-3]: "ends in the middle",
		strings.Replace(whole, "UNT+9+1'", "", 1):                                     "and message 1 has not ended",
		strings.Replace(whole, "UNZ+1+MH40001'", "", 1):                               "interchange MH40001 has no end (UNZ)",
		strings.Replace(whole, "UNH+1+ORDERS:D:96A:UN:EAN008'", "", 1):                "UNH or UNZ is expected",
		"UNB+UNOC:3+A+B+261123:0727+7'UNH+1+" + strings.Repeat("x", maxSegment) + "'": "is longer than",
		"UNB+UNOC:3+A+B+261123:0727+7'BGM" + strings.Repeat("+", maxElements+2) + "'": "more than 1000 elements",
	} {
		_, err := readAll(text)
		require.ErrorIs(t, err, ErrSyntax, says)
		require.ErrorContains(t, err, says)
	}
	for unz, says := range map[string]string{"UNZ+2+MH40001'": `says "2" messages, and has 1`, "UNZ+1+MH40002'": `ends as "MH40002"`} {
		got, err := readAll(strings.Replace(whole, "UNZ+1+MH40001'", unz, 1))
		require.NoError(t, err, "its messages were whole")
		require.Len(t, got.messages, 1)
		require.ErrorContains(t, got.ends[0], says)
	}
	two, err := readAll(order + order)
	require.NoError(t, err)
	require.Len(t, two.interchanges, 2)
}

// TestWhatIsWrittenIsReadAsItWas, whatever stands in it.
func TestWhatIsWrittenIsReadAsItWas(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 11))
	letters := []rune("ab+:'?*. \u00e4\u00df1")
	word := func() string {
		out := make([]rune, rnd.IntN(9))
		for i := range out {
			out[i] = letters[rnd.IntN(len(letters))]
		}
		return string(out)
	}
	for i := range 2000 {
		in := Interchange{
			Charset:    "UNOC",
			Version:    []string{"3", "4"}[i%2],
			Sender:     "S" + word(),
			Recipient:  "R" + word(),
			Reference:  "X1",
			PreparedAt: time.Date(2026, 11, 23, 7, 27, 0, 0, time.UTC),
			Test:       i%3 == 0,
		}
		var messages []Message
		for n := range 1 + rnd.IntN(3) {
			m := Message{Reference: fmt.Sprint(n + 1), Type: "ORDERS", Version: "D", Release: "01B", Agency: "UN"}
			for range rnd.IntN(6) {
				s := Segment{Tag: "FTX"}
				for range 1 + rnd.IntN(4) {
					s.Elements = append(s.Elements, []string{word(), word()})
				}
				s.Elements = append(s.Elements, []string{"end"})
				m.Segments = append(m.Segments, s)
			}
			messages = append(messages, m)
		}
		text, err := Write(in, messages)
		require.NoError(t, err)
		got, err := readAll(string(text))
		require.NoError(t, err, "%s", text)
		require.Equal(t, []Interchange{in}, got.interchanges)
		require.Equal(t, []error{nil}, got.ends)
		require.Len(t, got.messages, len(messages))
		for j, m := range got.messages {
			require.NoError(t, m.Err)
			require.Len(t, m.Segments, len(messages[j].Segments))
			for k, s := range m.Segments {
				for e, want := range messages[j].Segments[k].Elements {
					for c, text := range want {
						require.Equal(t, text, s.At(e+1, c+1), "%s", text)
					}
				}
			}
		}
	}
}

func TestWhatIsNotWritten(t *testing.T) {
	good := Interchange{Charset: "UNOC", Sender: "A", Recipient: "B", Reference: "1"}
	one := []Message{{Type: "ORDERS"}}
	for says, change := range map[string]func(*Interchange){
		"is not known":     func(in *Interchange) { in.Charset = "UTF8" },
		"names its sender": func(in *Interchange) { in.Sender = "" },
		"1 to 14":          func(in *Interchange) { in.Reference = "123456789012345" },
	} {
		in := good
		change(&in)
		_, err := Write(in, one)
		require.ErrorContains(t, err, says)
	}
	_, err := Write(good, nil)
	require.ErrorContains(t, err, "has a message")
}

// TestAcknowledgements say of each message whether it was taken, and are read back.
func TestAcknowledgements(t *testing.T) {
	in := Interchange{Charset: "UNOC", Version: "3", Sender: "A", SenderQualifier: "14", Recipient: "B", Reference: "7"}
	kind := Message{Type: "DESADV", Version: "D", Release: "96A", Agency: "UN"}
	m := Acknowledge(in, []Outcome{{Reference: "1", Kind: &kind}, {Reference: "2", Kind: &kind, Code: errCount}}, "", "")
	text, err := Write(Interchange{Charset: "UNOC", Sender: "B", Recipient: "A", Reference: "8"}, []Message{m})
	require.NoError(t, err)
	require.Contains(t, string(text), "UCI+7+A:14+B+7'\nUCM+1+DESADV:D:96A:UN+7'\nUCM+2+DESADV:D:96A:UN+4+29'\n")
	got, err := readAll(string(text))
	require.NoError(t, err)
	ack, err := got.messages[0].Acknowledgement()
	require.NoError(t, err)
	require.Equal(t, Acknowledged{Reference: "7", Taken: true, Rejected: map[string]string{"2": "29"}}, ack)
	ack, err = Acknowledge(in, nil, errCount, "1").Acknowledgement()
	require.NoError(t, err)
	require.Equal(t, Acknowledged{Reference: "7", Code: "29", Rejected: map[string]string{}}, ack)
	for _, none := range []Message{kind, {Type: "CONTRL", Err: io.EOF}, {Type: "CONTRL"}} {
		_, err := none.Acknowledgement()
		require.ErrorIs(t, err, ErrSyntax)
	}
}

// endless is an interchange with so many segments, made as it is read.
type endless struct {
	left int
	buf  bytes.Buffer
}

func (e *endless) Read(p []byte) (int, error) {
	for e.buf.Len() < len(p) && e.left > 0 {
		e.left--
		if e.left%8 == 0 {
			fmt.Fprintf(&e.buf, "UNT+9+%d'UNH+%d+INVRPT:D:96A:UN'", e.left/8+1, e.left/8)
		} else {
			e.buf.WriteString("LIN+1++2007100014508:EN'")
		}
	}
	if e.buf.Len() == 0 {
		return 0, io.EOF
	}
	return e.buf.Read(p)
}

// TestMemoryIsBounded, however long an interchange is.
func TestMemoryIsBounded(t *testing.T) {
	const segments = 300_000
	from := &endless{left: segments}
	fmt.Fprintf(&from.buf, "UNB+UNOC:3+A+B+261123:0727+7'UNH+%d+INVRPT:D:96A:UN'LIN+1'", segments/8)
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	n := 0
	err := Read(from, Handler{Begin: func(Interchange) error { return nil }, Take: func(Message) error { n++; return nil },
		End: func(Interchange, error) error { return nil }})
	require.ErrorContains(t, err, "has no end")
	runtime.GC()
	runtime.ReadMemStats(&after)
	require.Equal(t, segments/8, n)
	require.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(4<<20))
}

// FuzzRead: whatever comes, it ends in messages or an error, and what was read can be written and read again.
func FuzzRead(f *testing.F) {
	f.Add([]byte(order))
	f.Add([]byte("UNA|*,  ~UNB*UNOB|1*A*B*261123|0727*7~UNH*1*INVRPT|D|96A|UN~BGM*35~UNT*3*1~UNZ*1*7~"))
	f.Add([]byte("UNB+UNOY:4+A+B+20261123:0727+7'UNH+1+X'FTX+a*b*c'UNT+3+1'UNZ+1+7'"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		got, err := readAll(string(raw))
		if err != nil && !errors.Is(err, ErrSyntax) {
			t.Fatal(err)
		}
		for _, m := range got.messages {
			if m.Err != nil || m.Type == "" {
				continue
			}
			text, err := Write(Interchange{Charset: "UNOY", Sender: "A", Recipient: "B", Reference: "1"}, []Message{m})
			if err != nil {
				continue // a reference with a character that nobody writes
			}
			back, err := readAll(string(text))
			if err != nil || len(back.messages) != 1 || len(back.messages[0].Segments) != len(m.Segments) {
				t.Fatalf("%v: %q became %q", err, raw, text)
			}
		}
	})
}

func BenchmarkRead(b *testing.B) {
	from := &endless{left: b.N}
	fmt.Fprintf(&from.buf, "UNB+UNOC:3+A+B+261123:0727+7'UNH+%d+INVRPT:D:96A:UN'LIN+1'", b.N/8)
	b.ReportAllocs()
	_ = Read(from, Handler{Begin: func(Interchange) error { return nil }, Take: func(Message) error { return nil },
		End: func(Interchange, error) error { return nil }})
}
