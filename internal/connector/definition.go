package connector

import (
	"cmp"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
)

// Definition is a loaded and checked connector definition.
type Definition struct {
	Connector string                       `yaml:"connector"`
	Extends   string                       `yaml:"extends"`
	Title     string                       `yaml:"title"`
	Side      string                       `yaml:"side"`
	About     string                       `yaml:"about"`
	Address   Address                      `yaml:"address"`
	Sites     []Site                       `yaml:"sites"`
	Access    Access                       `yaml:"access"`
	Format    Format                       `yaml:"format"`
	Says      Says                         `yaml:"says"` // where an error answer tells people what is wrong
	Test      *TestFlag                    `yaml:"test"`
	Limits    Limits                       `yaml:"limits"`
	Demands   Demands                      `yaml:"demands"`
	Tables    map[string]map[string]string `yaml:"tables"`
	Push      *Push                        `yaml:"push"`
	Feeds     map[message.Feed]*Feed       `yaml:"feeds"`
	Calls     map[string]*Call             `yaml:"calls"`

	// Text is the definition as it was written; for one that extends another, only its own part.
	Text string `yaml:"-"`

	whole *yaml.Node // with what it extends
}

// Address says where the other side is reached.
type Address struct {
	Default string `yaml:"default"`
	Help    string `yaml:"help"`
}

// Site is one of several shops, countries or branches that one account may be let into.
type Site struct {
	Code    string `yaml:"code" json:"code"`
	Name    string `yaml:"name" json:"name"`
	Country string `yaml:"country" json:"country,omitempty"`
}

// Access says how the other side lets us in.
type Access struct {
	Way      string          `yaml:"way"`
	Fields   []Field         `yaml:"fields"`
	Steps    []string        `yaml:"steps"`
	Send     map[string]Expr `yaml:"send"`  // headers of every request
	Query    map[string]Expr `yaml:"query"` // parameters of every request
	Basic    *Basic          `yaml:"basic"`
	OAuth    *OAuth          `yaml:"oauth"`
	Sign     *Sign           `yaml:"sign"`
	SFTP     *SFTP           `yaml:"sftp"`
	Refusals []Refusal       `yaml:"refusals"`
}

// Field is a credential a person has to bring, or, with Give, one that we make up and hand out.
type Field struct {
	Name     string `yaml:"name" json:"name"`
	Label    string `yaml:"label" json:"label"`
	Help     string `yaml:"help" json:"help,omitempty"`
	Secret   bool   `yaml:"secret" json:"secret"`
	Optional bool   `yaml:"optional" json:"optional,omitempty"`
	Give     bool   `yaml:"give" json:"give,omitempty"`
	Pattern  string `yaml:"pattern" json:"pattern,omitempty"` // a regular expression for the whole value
	Lines    bool   `yaml:"lines" json:"lines,omitempty"`     // of several lines, such as a private key
}

// Where says what the address of a connection is, for whoever types it.
func (d *Definition) Where() string {
	switch {
	case d.Address.Help != "":
		return d.Address.Help
	case d.Exchanges():
		return "The folder in which files are exchanged, such as /srv/exchange, sftp://host/folder, or an https address that speaks WebDAV"
	}
	return "Where " + d.Title + " is reached, such as https://shop.example"
}

// Fits tells whether a value has the form that the field is said to have; one that is empty has.
func (f *Field) Fits(value string) bool {
	return f.Pattern == "" || value == "" || regexp.MustCompile("^(?:"+f.Pattern+")$").MatchString(value)
}

var secretNamed = regexp.MustCompile(`\bsecret\.([a-z][a-z0-9_]*)`)

// onlyField is the one credential field by which requests are let in; "" where there are several: nobody knows which is wrong.
func (a *Access) onlyField() string {
	used := map[string]bool{}
	note := func(e Expr) {
		for _, m := range secretNamed.FindAllStringSubmatch(e.Text, -1) {
			used[m[1]] = true
		}
	}
	for _, m := range []map[string]Expr{a.Send, a.Query} {
		for _, e := range m {
			note(e)
		}
	}
	if a.Basic != nil {
		note(a.Basic.Name)
		note(a.Basic.Password)
	}
	if a.Sign != nil {
		used[a.Sign.Secret] = true
		for _, e := range a.Sign.Send {
			note(e)
		}
	}
	if a.OAuth != nil || len(used) != 1 {
		return ""
	}
	return sortedKeys(used)[0]
}

// Basic is a name and a password in the Authorization header (RFC 7617).
type Basic struct {
	Name     Expr `yaml:"name"`
	Password Expr `yaml:"password"`
}

// Refusal tells which credential field an answer speaks of.
type Refusal struct {
	When  Expr   `yaml:"when"`
	Field string `yaml:"field"`
	Say   string `yaml:"say"`
}

// Format says in which form bodies are written and read: json, xml, form, csv, fixed, edifact or text; an answer may be binary, too.
type Format struct {
	Body      string `yaml:"body"`      // of what we send
	Answer    string `yaml:"answer"`    // of what comes back
	Separator string `yaml:"separator"` // of CSV columns

	Charset string   `yaml:"charset"` // IANA name; UTF-8 where it is not set. EDIFACT says its own
	Columns []Column `yaml:"columns"` // of fixed
}

// TestFlag is how the other side is told that something is only a test.
type TestFlag struct {
	Say     string          `yaml:"say"`
	Headers map[string]Expr `yaml:"headers"`
	Query   map[string]Expr `yaml:"query"`
	Body    map[string]Expr `yaml:"body"` // fields added to the outermost record of a body
}

// Limits keep us polite and safe.
type Limits struct {
	PerSecond float64  `yaml:"per_second"`
	Burst     int      `yaml:"burst"`
	Timeout   Duration `yaml:"timeout"`
	MaxBody   Size     `yaml:"max_body"`
	MaxPages  int      `yaml:"max_pages"`
	MaxFile   Size     `yaml:"max_file"` // of files that are read piece by piece: CSV, lines of fixed width, EDIFACT
}

// Demands are what the other side wants of our own data; people are told of them before it refuses something.
type Demands struct {
	NameWords int `yaml:"name_words"` // words that names of senders and recipients have at least; 0: any number
}

// Push says how the other side calls us.
type Push struct {
	Signature Signature `yaml:"signature"`
	Format    string    `yaml:"format"` // json, xml or form
	Events    string    `yaml:"events"` // path to the list of events; empty: the body is one event
	Topic     string    `yaml:"topic"`  // path of an event's topic
	MaxBody   Size      `yaml:"max_body"`
}

// Feed is one kind of record moving one way.
type Feed struct {
	Topic   string    `yaml:"topic"`  // pushed events of this topic belong to the feed
	Record  string    `yaml:"record"` // path of the record inside a pushed event
	Read    *Read     `yaml:"read"`
	ID      Expr      `yaml:"id"`
	Version Expr      `yaml:"version"`
	Map     Tree      `yaml:"map"`
	Batch   int       `yaml:"batch"`
	Require []Require `yaml:"require"`
	Send    *Send     `yaml:"send"`
	Confirm *Confirm  `yaml:"confirm"`
	Takes   []string  `yaml:"takes"` // what the side takes beyond plain messages: corrections, withdrawals, journeys, consignments

	in    *mapper
	reads map[string]bool // what id, version and mark look at
}

// Read says how records are fetched.
type Read struct {
	Every       Duration   `yaml:"every"`
	Overlap     Duration   `yaml:"overlap"`
	Request     Request    `yaml:"request"`
	Files       *ReadFiles `yaml:"files"`  // instead of a request
	Format      Format     `yaml:"format"` // of files
	Each        string     `yaml:"each"`   // parcels: the request is made for each parcel on its way
	Items       string     `yaml:"items"`  // path to the list of records; empty: the body is the list
	Next        Next       `yaml:"next"`
	Detail      []Detail   `yaml:"detail"`
	Mark        Expr       `yaml:"mark"`  // the largest seen becomes the mark
	Begin       Expr       `yaml:"begin"` // the mark of the first reading, made of since; since itself where it is not set
	Conditional bool       `yaml:"conditional"`
}

// What a side may take beyond the plain messages of a feed.
const (
	Journeys     = "journeys"     // of states: each move of a parcel
	Consignments = "consignments" // of labels: several parcels in one request, under one number
	Repeats      = "repeats"      // of requests: one that is asked again under its reference is not sent twice
)

// checkTakes refuses that a side takes what it is never told.
func (f *Feed) checkTakes(l *language, kind message.Feed, what string) {
	for _, x := range f.Takes {
		switch {
		case x == Consignments && kind == message.LabelsOut:
		case x == Repeats && kind == message.RequestsOut:
		case x == Repeats || kind == message.RequestsOut:
			l.complain(0, 0, what, "of requests, and of them alone, repeats are taken: the same again under its reference")
		case x == Consignments || kind == message.LabelsOut:
			l.complain(0, 0, what, "of labels, and of them alone, consignments are taken: several parcels in one request")
		case (x == Journeys) != (kind == message.StatesOut):
			l.complain(0, 0, what, "of states, journeys of parcels are taken; of a dispatch, corrections and withdrawals")
		case kind != message.StatesOut && kind != message.DispatchOut:
			l.complain(0, 0, what, "only what was told of a dispatch is corrected or withdrawn")
		}
	}
}

// Detail is a further request for each listed record. Its answer takes the record's place, or is added
// to it under a name.
type Detail struct {
	Request Request `yaml:"request"`
	Path    string  `yaml:"path"`
	As      string  `yaml:"as"`
}

// Next says where the next page is. At most one way is set.
type Next struct {
	Link   bool   `yaml:"link"`   // a Link header (RFC 8288) with rel=next
	Cursor Expr   `yaml:"cursor"` // a text of the answer, sent as Param
	Param  string `yaml:"param"`
	Alone  bool   `yaml:"alone"`   // the cursor goes without the other parameters
	Page   string `yaml:"page"`    // a parameter that counts pages from First
	First  int    `yaml:"first"`   //
	Last   Expr   `yaml:"last"`    // the number of the last page, if the answer tells it
	Offset string `yaml:"offset"`  // a parameter that counts records
	Mark   bool   `yaml:"mark"`    // the same request from the largest mark seen
	Size   int    `yaml:"size"`    // records of a full page
	SizeAs string `yaml:"size_as"` // a parameter that carries the size; without it the request says it itself
}

// Require refuses a message before it is sent, with the other side's reason.
type Require struct {
	When  Expr   `yaml:"when"`
	Say   string `yaml:"say"`
	Field string `yaml:"field"` // which field of a label's parcel is wrong, such as to.name
}

// Send says how messages go out.
type Send struct {
	Request Request `yaml:"request"`
	Subject Expr    `yaml:"subject"` // what results call a message of a batch; the SKU where it is not set
	Results *Tree   `yaml:"results"` // per message of a batch
	Answer  *Tree   `yaml:"answer"`  // of a single message, or of a submission
	Report  *Report `yaml:"report"`

	Answers []Meaning `yaml:"answers"` // the first that fits says what an answer means
	Look    *Look     `yaml:"look"`    // asked before a message is sent again whose answer was lost
	Receipt *Receipt  `yaml:"receipt"` // of a file: what the other side answers with, later

	results, answer *mapper
}

// Look asks whether a message arrived whose answer was lost, where sending it again might do it twice.
type Look struct {
	Request Request `yaml:"request"`
	Found   Expr    `yaml:"found"`
	Answer  *Tree   `yaml:"answer"` // what the lost answer would have told

	answer *mapper
}

// Receipt says that the other side answers a file with a receipt, which comes in over the feed of receipts.
type Receipt struct {
	Reference Expr     `yaml:"reference"` // that the receipt will name
	Within    Duration `yaml:"within"`    // a person is asked when none has come by then; four hours where it is not set
}

// Report says how to learn, later, what became of a submitted batch.
type Report struct {
	After   Duration `yaml:"after"`
	Every   Duration `yaml:"every"`
	GiveUp  Duration `yaml:"give_up"`
	Request Request  `yaml:"request"`
	Ready   Expr     `yaml:"ready"`
	Results Tree     `yaml:"results"`

	results *mapper
}

// Confirm says how a write is read back.
type Confirm struct {
	Request Request  `yaml:"request"`
	When    Expr     `yaml:"when"`
	After   Duration `yaml:"after"`
}

// Call is a question with an answer: identity, rates, tariff, address.
type Call struct {
	Require []Require `yaml:"require"`
	Request Request   `yaml:"request"`
	Items   string    `yaml:"items"`
	Map     Tree      `yaml:"map"`

	out *mapper
}

// Request is a call to the other side.
type Request struct {
	Method  string          `yaml:"method"`
	Path    string          `yaml:"path"` // with {expressions}, each escaped
	Query   map[string]Expr `yaml:"query"`
	Headers map[string]Expr `yaml:"headers"`
	Body    Tree            `yaml:"body"`
	Format  Format          `yaml:"format"`
	Steps   []Step          `yaml:"steps"` // calls before it, whose answers it uses
	File    string          `yaml:"file"`  // instead of a call: a file that is written, its name with {expressions}

	path []pathPart
	body maker
}

type pathPart struct {
	text string
	expr Expr
}

// Result is what a channel says of one message of a batch.
type Result struct {
	Subject  string `json:"subject"`
	Accepted bool   `json:"accepted"`
	Reason   string `json:"reason"`
	ID       string `json:"id"`    // the number that the other side gave it
	State    string `json:"state"` // of a listing: live, off, in review or rejected
	URL      string `json:"url"`
}

// SendAnswer is what the answer to a sent message may tell, beside a carrier's label or receipt.
type SendAnswer struct {
	ID         string `json:"id"`
	Submission string `json:"submission,omitempty"` // number of a batch whose report comes later
	State      string `json:"state,omitempty"`      // of a listing: live, off, in review or rejected
	URL        string `json:"url,omitempty"`
}

// The kinds of feeds and calls of the language and what they map to, in the order in which people
// meet them.
var (
	inKinds = []kindOf[message.Feed]{
		{message.OrdersIn, reflect.TypeFor[message.Order]()},
		{message.ListingsIn, reflect.TypeFor[message.Listing]()},
		{message.ItemsIn, reflect.TypeFor[message.Item]()},
		{message.CustomersIn, reflect.TypeFor[message.Customer]()},
		{message.StockIn, reflect.TypeFor[message.StockLevel]()},
		{message.DispatchIn, reflect.TypeFor[message.Dispatch]()},
		{message.TrackingIn, reflect.TypeFor[message.Tracking]()},
		{message.ReturnsIn, reflect.TypeFor[message.Return]()},
		{message.ReceiptsIn, reflect.TypeFor[message.Receipt]()},
		{message.RequestsIn, reflect.TypeFor[message.RequestState]()},
		{message.BillsIn, reflect.TypeFor[message.BillLine]()},
	}
	outKinds = []kindOf[message.Feed]{
		{message.StockOut, reflect.TypeFor[SendAnswer]()},
		{message.ItemsOut, reflect.TypeFor[SendAnswer]()},
		{message.DispatchOut, reflect.TypeFor[SendAnswer]()},
		{message.AnswersOut, reflect.TypeFor[SendAnswer]()},
		{message.StatesOut, reflect.TypeFor[SendAnswer]()},
		{message.CancelOut, reflect.TypeFor[SendAnswer]()},
		{message.RefundsOut, reflect.TypeFor[SendAnswer]()},
		{message.LabelsOut, reflect.TypeFor[message.Label]()},
		{message.ReturnLabels, reflect.TypeFor[message.Label]()},
		{message.VoidsOut, reflect.TypeFor[SendAnswer]()},
		{message.HandoversOut, reflect.TypeFor[message.HandoverReceipt]()},
		{message.RequestsOut, reflect.TypeFor[message.RequestAnswer]()},
		{message.RequestStops, reflect.TypeFor[message.RequestAnswer]()},
	}
	callKinds = []kindOf[string]{
		{"identity", reflect.TypeFor[message.Identity]()},
		{"rates", reflect.TypeFor[message.Rate]()},
		{"tariff", reflect.TypeFor[freight.Tariff]()},
		{"address", reflect.TypeFor[message.AddressCheck]()},
		{"document", reflect.TypeFor[message.LabelDocument]()},
		{"points", reflect.TypeFor[message.PickupPoint]()},
	}
)

type kindOf[N ~string] struct {
	name  N
	shape reflect.Type
}

func shapeOf[N ~string](kinds []kindOf[N], name N) reflect.Type {
	for _, k := range kinds {
		if k.name == name {
			return k.shape
		}
	}
	return nil
}

// Kinds lists the feeds of a definition in a fixed order: what comes in first.
func (d *Definition) Kinds() []message.Feed {
	var out []message.Feed
	for _, list := range [][]kindOf[message.Feed]{inKinds, outKinds} {
		for _, k := range list {
			if d.Feeds[k.name] != nil {
				out = append(out, k.name)
			}
		}
	}
	return out
}

// Menus tells whether items with option groups can be listed there: whether what is sent of an item says
// anything of its groups.
func (d *Definition) Menus() bool {
	f := d.Feeds[message.ItemsOut]
	return f != nil && f.Send != nil && mentions(f.Send.Request.Body.node, "groups")
}

// TellsEdits tells whether the other side says by how much people change quantities there.
func (l *Line) TellsEdits() bool {
	f := l.Def.Feeds[message.StockIn]
	return f != nil && valueOf(f.Map.node, "change") != nil
}

func mentions(n *yaml.Node, word string) bool {
	if n == nil {
		return false
	}
	return n.Kind == yaml.ScalarNode && strings.Contains(n.Value, word) || slices.ContainsFunc(n.Content, func(c *yaml.Node) bool {
		return mentions(c, word)
	})
}

// ComesIn tells whether records of a feed come to us.
func ComesIn(kind message.Feed) bool { return shapeOf(inKinds, kind) != nil }

// Secrets are the names of the fields that must not be shown.
func (d *Definition) Secrets() map[string]bool {
	out := map[string]bool{}
	for _, f := range d.Access.Fields {
		out[f.Name] = f.Secret
	}
	return out
}

// Site returns the site with a code, or nil.
func (d *Definition) Site(code string) *Site {
	for i := range d.Sites {
		if d.Sites[i].Code == code {
			return &d.Sites[i]
		}
	}
	return nil
}

// Duration is a time span written as "20s" or "5m".
type Duration time.Duration

// UnmarshalYAML reads the span.
func (d *Duration) UnmarshalYAML(n *yaml.Node) error {
	v, err := time.ParseDuration(n.Value)
	if err != nil || v < 0 {
		return mistakeAt(n, "", "%q is not a time span such as 20s or 5m", n.Value)
	}
	*d = Duration(v)
	return nil
}

// Size is a number of bytes written as "512KB" or "8MB".
type Size int64

// UnmarshalYAML reads the size.
func (s *Size) UnmarshalYAML(n *yaml.Node) error {
	text, unit := n.Value, int64(1)
	for suffix, u := range map[string]int64{"KB": 1 << 10, "MB": 1 << 20, "GB": 1 << 30} {
		if t, ok := strings.CutSuffix(text, suffix); ok {
			text, unit = t, u
		}
	}
	v, err := strconv.ParseInt(text, 10, 32)
	if err != nil || v < 1 || v*unit > 64<<30 {
		return mistakeAt(n, "", "%q is not a size such as 512KB, 8MB or 2GB, at most 64GB", n.Value)
	}
	*s = Size(v * unit)
	return nil
}

func (d *Definition) defaults() {
	if d.Limits.PerSecond == 0 {
		d.Limits.PerSecond = 5
	}
	if d.Limits.Burst == 0 {
		d.Limits.Burst = max(1, int(d.Limits.PerSecond))
	}
	if d.Limits.Timeout == 0 {
		d.Limits.Timeout = Duration(15 * time.Second)
	}
	if d.Limits.MaxBody == 0 {
		d.Limits.MaxBody = 8 << 20
	}
	if d.Limits.MaxFile == 0 {
		d.Limits.MaxFile = 4 << 30
	}
	if d.Limits.MaxPages == 0 {
		d.Limits.MaxPages = 10_000
	}
	d.Format.fill(Format{Body: "json", Answer: "json", Separator: ","})
	if p := d.Push; p != nil {
		if p.MaxBody == 0 {
			p.MaxBody = 2 << 20
		}
		if p.Topic == "" {
			p.Topic = "topic"
		}
		if p.Format == "" {
			p.Format = "json"
		}
	}
	if a := d.Access.OAuth; a != nil {
		if a.Grant == "" {
			a.Grant = "code"
		}
		if a.Skew == 0 {
			a.Skew = Duration(30 * time.Second)
		}
	}
	for _, f := range d.Feeds {
		f.defaults(d.Format)
	}
	for _, c := range d.Calls {
		c.Request.fill(d.Format)
	}
}

func (f *Feed) defaults(format Format) {
	if f.Batch == 0 {
		f.Batch = 1
	}
	if r := f.Read; r != nil {
		if r.Every == 0 {
			r.Every = Duration(time.Minute)
		}
		r.Request.fill(format)
		if r.Files != nil {
			r.Files.defaults()
			r.Format.fill(format)
			if r.Files.Acknowledge != nil {
				r.Files.Acknowledge.Format.fill(format)
			}
			r.Request = Request{Format: r.Format}
		}
		for i := range r.Detail {
			r.Detail[i].Request.fill(format)
		}
	}
	if s := f.Send; s != nil {
		s.Request.fill(format)
		if s.Look != nil {
			s.Look.Request.fill(format)
		}
		for i := range s.Answers {
			s.Answers[i].Means = cmp.Or(s.Answers[i].Means, MeansRefused)
		}
		if p := s.Report; p != nil {
			p.Request.fill(format)
			if p.Every == 0 {
				p.Every = Duration(30 * time.Second)
			}
			if p.GiveUp == 0 {
				p.GiveUp = Duration(time.Hour)
			}
		}
	}
	if f.Confirm != nil {
		f.Confirm.Request.fill(format)
	}
}

// fill lays a format under that of a request and of the steps before it.
func (r *Request) fill(format Format) {
	r.Format.fill(format)
	for i := range r.Steps {
		r.Steps[i].Request.fill(format)
	}
}

func (f *Format) fill(from Format) {
	if f.Body == "" {
		f.Body = from.Body
	}
	if f.Answer == "" {
		f.Answer = from.Answer
	}
	if f.Separator == "" {
		f.Separator = from.Separator
	}
	if f.Charset == "" {
		f.Charset = from.Charset
	}
	if f.Columns == nil {
		f.Columns = from.Columns
	}
}

// compile prepares every expression and mapping; each mistake is collected with its place.
func (d *Definition) compile() Mistakes {
	l, err := newLanguage(d.Tables)
	if err != nil {
		return Mistakes{{Text: err.Error()}}
	}
	return d.compileBy(l)
}

// compileBy compiles all expressions, and checks what a schema cannot say.
func (d *Definition) compileBy(l *language) Mistakes {
	for _, f := range d.Access.Fields {
		l.fields = append(l.fields, f.Name)
	}
	d.checkFiles(l)
	d.checkReceipts(l)
	if d.Limits.MaxBody > maxBody {
		l.complain(0, 0, "limits.max_body", "at most 256MB are held at once; files that are read piece by piece have max_file")
	}
	d.compileAccess(l)
	l.at(account, answerVars)
	l.compile(&d.Says.Text, "says")
	l.compile(&d.Says.Field, "says.field")
	if d.Push != nil {
		d.Push.Signature.compile(l, d)
	}
	if t := d.Test; t != nil {
		l.at(account, sentVars)
		for what, m := range map[string]map[string]Expr{"headers": t.Headers, "query": t.Query, "body": t.Body} {
			l.compileAll(m, "test."+what)
		}
	}
	for _, kind := range sortedKeys(d.Feeds) {
		d.Feeds[kind].compile(l, kind)
	}
	for _, name := range sortedKeys(d.Calls) {
		c := d.Calls[name]
		what := "calls." + name
		l.at(account, []string{"msg"})
		l.scope.msg = askedShapes[name]
		for i := range c.Require {
			l.compile(&c.Require[i].When, what+".require")
		}
		c.Request.compile(l, what+".request")
		l.and(answerVars, []string{"item"})
		c.out = l.mapper(&c.Map, shapeOf(callKinds, name), what+".map")
	}
	return l.mistakes
}

func (d *Definition) compileAccess(l *language) {
	a := &d.Access
	for _, f := range a.Fields {
		if _, err := regexp.Compile(f.Pattern); err != nil {
			l.complain(0, 0, "access.fields."+f.Name+".pattern", "%v", err)
		}
	}
	l.at(account)
	l.compileAll(a.Send, "access.send")
	l.compileAll(a.Query, "access.query")
	if a.Basic != nil {
		l.compile(&a.Basic.Name, "access.basic.name")
		l.compile(&a.Basic.Password, "access.basic.password")
	}
	if a.OAuth != nil {
		l.compile(&a.OAuth.ClientID, "access.oauth.client_id")
		l.compile(&a.OAuth.ClientSecret, "access.oauth.client_secret")
	}
	if a.Sign != nil {
		a.Sign.compile(l, d)
	}
	if a.SFTP != nil {
		a.SFTP.compile(l)
	}
	l.at(account, answerVars)
	for i := range a.Refusals {
		r := &a.Refusals[i]
		l.compile(&r.When, "access.refusals.when")
		if r.Field != "" && !d.hasField(r.Field) {
			l.complain(r.When.Line, r.When.Column, "access.refusals.field", "%q is not one of the credential fields", r.Field)
		}
	}
}

func (d *Definition) hasField(name string) bool {
	for _, f := range d.Access.Fields {
		if f.Name == name {
			return true
		}
	}
	return false
}

func (f *Feed) compile(l *language, kind message.Feed) {
	what := "feeds." + string(kind)
	l.at(recordVars)
	l.watch("item", "event")
	l.compile(&f.ID, what+".id")
	l.compile(&f.Version, what+".version")
	if f.Read != nil {
		l.compile(&f.Read.Mark, what+".read.mark")
	}
	f.reads = l.watched()
	if shape := shapeOf(inKinds, kind); shape != nil {
		l.at(account, recordVars)
		f.in = l.mapper(&f.Map, shape, what+".map")
		if f.Read == nil && f.Topic == "" {
			l.complain(f.ID.Line, f.ID.Column, what, "neither read nor topic is set: nothing would ever come in")
		}
	}
	l.at(account, sentVars)
	l.scope.msg = sentShapes[kind]
	for i := range f.Require {
		r := &f.Require[i]
		l.compile(&r.When, what+".require")
		l.checkWrong(kind, r.Field, &r.When, what+".require.field")
	}
	if r := f.Read; r != nil {
		r.checkEach(l, kind, what+".read")
		r.compile(l, what+".read")
		if n := r.Next; (n.Page != "" || n.Offset != "" || n.Mark) && n.Size == 0 {
			l.complain(0, 0, what+".read.next", "size is missing: without it the last page cannot be told")
		} else if n.SizeAs != "" && n.Size == 0 {
			l.complain(0, 0, what+".read.next", "size_as needs size")
		} else if n.Mark && !r.Mark.Set() {
			l.complain(0, 0, what+".read.next", "mark: true needs read.mark")
		} else if n.Cursor.Set() && n.Param == "" {
			l.complain(n.Cursor.Line, n.Cursor.Column, what+".read.next", "param is missing: the parameter that carries the cursor")
		}
	}
	if f.Send != nil {
		f.Send.compile(l, kind, what+".send")
	}
	if f.Send != nil && f.Send.Look != nil && f.Batch > 1 {
		at := f.Send.Look.Found
		l.complain(at.Line, at.Column, what+".send.look", "of a batch nobody can be asked whether it arrived; messages that are looked "+
			"for go one by one")
	}
	f.checkTakes(l, kind, what+".takes")
	if c := f.Confirm; c != nil {
		l.at(account, []string{"msg", "ref"})
		l.scope.msg = sentShapes[kind]
		c.Request.compile(l, what+".confirm.request")
		l.and(answerVars)
		l.compile(&c.When, what+".confirm.when")
	}
}

func (r *Read) compile(l *language, what string) {
	if r.Files != nil {
		r.Files.compile(l, what+".files")
		begins, _, grouped := groupsIn(r.Items)
		switch a := r.Files.Acknowledge; {
		case !grouped || r.Format.Answer != "edifact":
		case !segmentKey.MatchString(strings.SplitN(begins, "+", 2)[0]):
			l.complain(0, 0, what, "items %q: behind the kind of a message, the segment that begins its records is expected, such as "+
				"INVRPT/LIN CNT",
				r.Items)
		case a != nil && a.Control:
			l.complain(0, 0, what, "messages are acknowledged by CONTRL as a whole; where their groups are the records, that cannot be "+
				"told")
		}
	}
	l.at(account, []string{"since"})
	l.compile(&r.Begin, what+".begin")
	l.at(account, []string{"mark"})
	if r.Each != "" {
		l.at(account, []string{"msg"})
		l.scope.msg = reflect.TypeFor[message.FollowedParcel]()
	}
	r.Request.compile(l, what+".request")
	l.and(answerVars)
	l.compile(&r.Next.Cursor, what+".next.cursor")
	l.compile(&r.Next.Last, what+".next.last")
	for i := range r.Detail {
		l.at(account, []string{"item"})
		r.Detail[i].Request.compile(l, what+".detail.request")
	}
}

func (s *Send) compile(l *language, kind message.Feed, what string) {
	l.at([]string{"msg"})
	l.scope.msg = sentShapes[kind]
	l.compile(&s.Subject, what+".subject")
	l.at(account, sentVars)
	l.scope.msg = sentShapes[kind]
	before := l.scope
	s.Request.compile(l, what+".request")
	l.and(answerVars)
	for i := range s.Answers {
		m := &s.Answers[i]
		l.compile(&m.When, what+".answers.when")
		l.checkWrong(kind, m.Field, &m.When, what+".answers.field")
		if m.Means == MeansDone && (s.Results != nil || s.Report != nil) {
			l.complain(m.When.Line, m.When.Column, what+".answers", "of a batch each message has its own outcome; done is one for all")
		}
		if m.Means == MeansDone && needsAnswer(kind) {
			l.complain(m.When.Line, m.When.Column, what+".answers", "done tells nothing of %s; say with look how it is found", kind)
		}
	}
	if s.Results != nil {
		s.results = l.mapper(s.Results, reflect.TypeFor[[]Result](), what+".results")
	}
	if s.Answer != nil {
		s.answer = l.mapper(s.Answer, shapeOf(outKinds, kind), what+".answer")
	}
	if s.Look != nil {
		l.scope = before
		s.compileLook(l, kind, what+".look")
	}
	if s.Receipt != nil {
		l.scope = before
		l.compile(&s.Receipt.Reference, what+".receipt.reference")
	}
	if p := s.Report; p != nil {
		l.at(account, []string{"submission"})
		p.Request.compile(l, what+".report.request")
		l.and(answerVars)
		l.compile(&p.Ready, what+".report.ready")
		p.results = l.mapper(&p.Results, reflect.TypeFor[[]Result](), what+".report.results")
		if s.Answer == nil {
			l.complain(p.Ready.Line, p.Ready.Column, what+".report", "send.answer must tell the submission")
		}
	}
}

// needsAnswer tells whether what is sent is of no use without what the other side answers.
func needsAnswer(kind message.Feed) bool {
	return kind == message.LabelsOut || kind == message.ReturnLabels || kind == message.HandoversOut
}

func (s *Send) compileLook(l *language, kind message.Feed, what string) {
	k := s.Look
	k.Request.compile(l, what+".request")
	l.and(answerVars)
	l.compile(&k.Found, what+".found")
	switch {
	case k.Answer != nil:
		k.answer = l.mapper(k.Answer, shapeOf(outKinds, kind), what+".answer")
	case needsAnswer(kind):
		l.complain(k.Found.Line, k.Found.Column, what, "answer is missing: what the lost answer would have told")
	}
}

// checkWrong complains where a field is said to be wrong that a label's parcel does not have.
func (l *language) checkWrong(kind message.Feed, field string, at *Expr, what string) {
	switch {
	case field == "":
	case kind != message.LabelsOut && kind != message.ReturnLabels:
		l.complain(at.Line, at.Column, what, "only of a label's parcel a field is said to be wrong")
	case !hasPath(reflect.TypeFor[message.Parcel](), field):
		l.complain(at.Line, at.Column, what, "%q is no field of a parcel; there are such as to.name, to.postcode, weight_g", field)
	}
}

// hasPath tells whether a message has a field, the names of its records apart by points.
func hasPath(t reflect.Type, path string) bool {
	name, rest, deeper := strings.Cut(path, ".")
	at, ok := jsonFields(t)[name]
	if !ok {
		return false
	}
	inner := t.Field(at).Type
	if !deeper {
		return inner.Kind() != reflect.Struct
	}
	return inner.Kind() == reflect.Struct && hasPath(inner, rest)
}

func (r *Request) compile(l *language, what string) {
	if _, err := r.Format.characters(); err != nil {
		l.complain(0, 0, what+".format", "%v", err)
	}
	if (r.Format.Body == "fixed" && r.Body.Set() || r.Format.Answer == "fixed") && len(r.Format.Columns) == 0 {
		l.complain(0, 0, what+".format", "columns are missing: the name and width of each")
	}
	if len(r.Steps) > 0 {
		l.compileSteps(r.Steps, what)
	}
	l.compileAll(r.Query, what+".query")
	l.compileAll(r.Headers, what+".headers")
	if r.Body.Set() && r.Format.Body == "edifact" {
		for _, key := range []string{"interchange", "message"} {
			if n := r.Body.node; n.Kind != yaml.MappingNode || valueOf(n, key) == nil {
				l.complain(n.Line, n.Column, what+".body", "an EDIFACT body has %s", key)
			}
		}
	}
	if r.Body.Set() {
		l.strict = r.Format.Body == "edifact"
		r.body = l.compileOut(r.Body.node, what+".body")
		l.strict = false
	}
	r.path = nil
	for rest := cmp.Or(r.File, r.Path); ; {
		before, after, found := strings.Cut(rest, "{")
		if before != "" {
			r.path = append(r.path, pathPart{text: before})
		}
		if !found {
			return
		}
		inside, tail, closed := strings.Cut(after, "}")
		if !closed {
			l.complain(0, 0, what+".path", "%q: a { is not closed", r.Path)
			return
		}
		e := Expr{Text: inside}
		l.compile(&e, what+".path")
		r.path = append(r.path, pathPart{expr: e})
		rest = tail
	}
}

// refuses returns the first requirement that the variables break, as a failure; nil: they break none.
func refuses(rules []Require, v Vars) *Failure {
	for i := range rules {
		out, err := rules[i].When.Eval(v)
		if err != nil {
			return &Failure{Text: err.Error(), Unsent: true}
		}
		if b, ok := out.(bool); ok && b {
			return &Failure{Text: rules[i].Say, Wrong: rules[i].Field, Unsent: true}
		}
	}
	return nil
}

// Capabilities say what a connector can do, for people who choose one.
type Capabilities struct {
	In       []message.Feed `json:"in" doc:"Feeds that come in"`
	Out      []message.Feed `json:"out" doc:"Feeds that go out"`
	Pushes   bool           `json:"pushes" doc:"The other side calls us"`
	TestFlag string         `json:"test_flag,omitempty" doc:"How the other side is told that something is a test"`
	ReadBack []message.Feed `json:"read_back" doc:"Feeds whose writes are read back"`
	Reports  []message.Feed `json:"reports" doc:"Feeds whose batches are reported on later"`
	Calls    []string       `json:"calls"`
	Way      string         `json:"way" doc:"How we are let in, in words"`
}

// Capabilities reads from the definition what it can do.
func (d *Definition) Capabilities() Capabilities {
	c := Capabilities{In: []message.Feed{}, Out: []message.Feed{}, ReadBack: []message.Feed{}, Reports: []message.Feed{},
		Calls: sortedKeys(d.Calls), Pushes: d.Push != nil, Way: d.Access.words()}
	for _, kind := range d.Kinds() {
		f := d.Feeds[kind]
		if ComesIn(kind) {
			c.In = append(c.In, kind)
		} else {
			c.Out = append(c.Out, kind)
		}
		if f.Confirm != nil {
			c.ReadBack = append(c.ReadBack, kind)
		}
		if f.Send != nil && (f.Send.Report != nil || f.Send.Receipt != nil) {
			c.Reports = append(c.Reports, kind)
		}
	}
	if d.Test != nil {
		c.TestFlag = d.Test.Say
	}
	return c
}

func (a *Access) words() string {
	switch a.Way {
	case "consent":
		return "consent page (OAuth 2.0 with PKCE)"
	case "client":
		return "client credentials (OAuth 2.0)"
	case "password":
		return "name and password"
	case "key":
		if a.Sign != nil {
			return fmt.Sprintf("key and secret, requests signed (%s)", a.Sign.Scheme)
		}
		return "key"
	case "files":
		return "files, in a folder, by SFTP or over HTTP (WebDAV)"
	case "inbound":
		return "key that we hand out"
	}
	return "token"
}
