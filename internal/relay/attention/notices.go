package attention

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// NewTarget is somebody who wants to be told of exceptions.
type NewTarget struct {
	ID      int64         `json:"id,omitempty"`
	Kind    string        `json:"kind" enum:"webhook,email"`
	Address string        `json:"address" doc:"URL or e-mail address"`
	Causes  []order.Cause `json:"causes,omitempty" doc:"What they chose to be told about; empty: everything"`
	Every   int64         `json:"every_minutes" doc:"At most one message in so many minutes; what happens meanwhile goes together"`
	On      bool          `json:"on"`
}

// PutTarget adds or changes somebody who wants to be told. For a new webhook it returns the secret that signs what
// is sent there; it is not shown again.
func (r *Attention) PutTarget(ctx context.Context, n NewTarget, who string) (id int64, secret string, err error) {
	if err := r.checkTarget(&n); err != nil {
		return 0, "", err
	}
	causes, err := json.Marshal(n.Causes)
	if err != nil {
		return 0, "", err
	}
	x := store.Target{ID: n.ID, Kind: n.Kind, Address: n.Address, Causes: string(causes), Every: n.Every, On: n.On}
	list, err := r.Store.Targets(ctx)
	if err != nil {
		return 0, "", err
	}
	known := n.ID == 0
	for _, t := range list {
		if t.ID == n.ID {
			known = true
			x.Secret, x.UpTo, x.NextAt = t.Secret, t.UpTo, t.NextAt
			if t.Kind != n.Kind {
				return 0, "", engine.Refuse("kind: a target stays what it is; add another")
			}
		}
	}
	if !known {
		return 0, "", fmt.Errorf("target %d: %w", n.ID, store.ErrNotFound)
	}
	if n.ID == 0 {
		if x.UpTo, err = r.Store.LastException(ctx); err != nil { // of what is new from now on
			return 0, "", err
		}
		if n.Kind == "webhook" {
			secret = "whsec_" + base64.StdEncoding.EncodeToString([]byte(engine.RandomText(32)))
			if x.Secret, err = r.Sealer.Seal(map[string]string{"secret": secret}); err != nil {
				return 0, "", err
			}
		}
	}
	err = r.Commit(ctx, func(ch *engine.Change) (err error) {
		ch.Watch = true
		ch.Tell("target", "")
		if id, err = ch.PutTarget(x); err != nil {
			return err
		}
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "target", ThingID: id, What: "notices",
			Text: fmt.Sprintf("%s is told of %s, at most every %d minutes", n.Address,
				engine.Or(engine.Join(n.Causes), "everything"), n.Every)})
	})
	return id, secret, err
}

// checkTarget refuses somebody who cannot be told, or causes that are never raised.
func (r *Attention) checkTarget(n *NewTarget) error {
	switch n.Kind {
	case "webhook":
		u, err := url.Parse(n.Address)
		if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.User != nil {
			return engine.Refuse("address: an https URL is expected")
		}
	case "email":
		if a, err := mail.ParseAddress(n.Address); err != nil || a.Address != n.Address {
			return engine.Refuse("address: an e-mail address is expected")
		}
		if r.Mail == nil {
			return &engine.Refused{Text: "no mail server is known to the service; start it with -smtp", Conflict: true}
		}
	default:
		return engine.Refuse("kind: webhook or email is expected")
	}
	if n.Every < 0 || n.Every > 7*24*60 {
		return engine.Refuse("every_minutes: 0 to 10080 are expected")
	}
	if n.Causes == nil {
		n.Causes = []order.Cause{}
	}
	for _, c := range n.Causes {
		if !slices.Contains(engine.Causes, c) && !slices.Contains(order.Causes, c) {
			return engine.Refuse("causes: nothing is ever raised as %q", c)
		}
	}
	return nil
}

// DropTarget ends telling somebody.
func (r *Attention) DropTarget(ctx context.Context, id int64, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("target", "")
		if err := ch.DropTarget(id); err != nil {
			return err
		}
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "target", ThingID: id, What: "notices",
			Text: "No longer told of anything"})
	})
}

// noticeBody is what a webhook gets: a CloudEvents 1.0 event in the JSON format.
type noticeBody struct {
	SpecVersion string     `json:"specversion"`
	Type        string     `json:"type"`
	Source      string     `json:"source"`
	ID          string     `json:"id"`
	Time        time.Time  `json:"time"`
	ContentType string     `json:"datacontenttype"`
	Data        noticeData `json:"data"`
}

type noticeData struct {
	Company string      `json:"company"`
	Count   int         `json:"count"`
	Groups  []noticeSet `json:"groups"`
}

type noticeSet struct {
	Cause      order.Cause `json:"cause"`
	Subject    string      `json:"subject,omitempty"`
	Connection string      `json:"connection,omitempty"`
	Count      int         `json:"count"`
	Text       string      `json:"text"`
	Expected   string      `json:"expected"`
	Orders     []string    `json:"orders"`
}

// Gather makes, for each target whose time has come, one message of all that was raised since the last. It
// returns when the next may be due.
func (r *Attention) Gather(ctx context.Context) (next time.Time, err error) {
	targets, err := r.Store.Targets(ctx)
	if err != nil {
		return next, err
	}
	now := r.Clock()
	for _, t := range targets {
		if !t.On {
			continue
		}
		if at := store.Time(t.NextAt); at.After(now) {
			next = engine.Earlier(next, at)
			continue
		}
		var causes []string
		if err := json.Unmarshal([]byte(t.Causes), &causes); err != nil {
			return next, err
		}
		list, err := r.Store.NewExceptions(ctx, t.UpTo, causes, 1000)
		if err != nil {
			return next, err
		}
		if len(list) == 0 {
			continue
		}
		again := now.Add(time.Duration(t.Every) * time.Minute)
		next = engine.Earlier(next, again)
		upto := list[len(list)-1].ID
		company, err := r.Store.Setting(ctx, "company")
		if err != nil {
			return next, err
		}
		data := noticeOf(company, list)
		ref := fmt.Sprintf("%s-n%d-%d", r.Prefix, t.ID, upto)
		payload, err := json.Marshal(noticeBody{"1.0", "open-relay.exceptions.raised", "/open-relay/" + r.Prefix, ref, now.UTC(),
			"application/json", data})
		if err != nil {
			return next, err
		}
		subject := fmt.Sprintf("%d need a person: %s", data.Count, data.Groups[0].Cause)
		if data.Count == 1 {
			subject = "Needs a person: " + string(data.Groups[0].Cause)
		} else if len(data.Groups) > 1 {
			subject += " and more"
		}
		if err := r.Commit(ctx, func(ch *engine.Change) error {
			if err := ch.AddNotice(store.Notice{TargetID: t.ID, Ref: ref, Subject: subject, Payload: string(payload),
				CreatedAt: now.UnixMicro(), NextAt: now.UnixMicro()}); err != nil {
				return err
			}
			ch.After(r.WakeTell.Now)
			return ch.ToldOf(t.ID, upto, again)
		}); err != nil {
			return next, err
		}
	}
	return next, nil
}

// noticeOf groups exceptions by cause and thing, in the order in which they came.
func noticeOf(company string, list []store.Exception) noticeData {
	d := noticeData{Company: company, Count: len(list)}
	at := map[store.Group]int{}
	for _, e := range list {
		e = engine.Discreet(e, "Details are shown to those who sign in.")
		k := store.Group{Cause: e.Cause, Subject: e.Subject, ConnectionID: e.ConnectionID}
		i, ok := at[k]
		if !ok {
			i = len(d.Groups)
			at[k] = i
			d.Groups = append(d.Groups, noticeSet{Cause: e.Cause, Subject: e.Subject, Connection: e.ConnectionName, Text: e.Text,
				Expected: e.Expected, Orders: []string{}})
		}
		g := &d.Groups[i]
		g.Count++
		if e.OrderNumber != "" && len(g.Orders) < 50 {
			g.Orders = append(g.Orders, e.OrderNumber)
		}
	}
	return d
}

// mailText is a notice as people read it.
func (d noticeData) mailText() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s: what could not go on by itself.\n", d.Company)
	for _, g := range d.Groups {
		fmt.Fprintf(&b, "\n%s", g.Cause)
		if g.Connection != "" {
			fmt.Fprintf(&b, ", %s", g.Connection)
		}
		if g.Count > 1 {
			fmt.Fprintf(&b, " (%d)", g.Count)
		}
		fmt.Fprintf(&b, "\n  %s\n  Expected: %s\n", g.Text, g.Expected)
		if len(g.Orders) > 0 {
			fmt.Fprintf(&b, "  Orders: %s\n", strings.Join(g.Orders, ", "))
		}
	}
	return b.String()
}

// noticeTries is how often a message is tried.
const noticeTries = 10

// Tell sends the messages that are due, and returns when the next is.
func (r *Attention) Tell(ctx context.Context) (next time.Time, err error) {
	due, err := r.Store.DueNotices(ctx, r.Clock())
	if err != nil {
		return next, err
	}
	if len(due) == 0 {
		return r.Store.NextNotice(ctx)
	}
	list, err := r.Store.Targets(ctx)
	if err != nil {
		return next, err
	}
	targets := map[int64]store.Target{}
	for _, t := range list {
		targets[t.ID] = t
	}
	for _, n := range due {
		err := r.tellOne(ctx, targets[n.TargetID], n)
		if ctx.Err() != nil {
			return next, nil
		}
		n.Attempts++
		now := r.Clock()
		switch {
		case err == nil:
			n.State, n.SentAt, n.Error = "sent", now.UnixMicro(), ""
		case n.Attempts >= noticeTries:
			n.State, n.Error = "failed", engine.Clip(err.Error(), 300)
			r.Log.Error("somebody could not be told", "target", n.TargetID, "error", n.Error)
		default:
			n.NextAt, n.Error = now.Add(engine.Delay(int(n.Attempts)*2, n.Ref)).UnixMicro(), engine.Clip(err.Error(), 300)
		}
		if err := r.Commit(ctx, func(ch *engine.Change) error { ch.Tell("target", ""); return ch.SettleNotice(n) }); err != nil {
			return next, err
		}
	}
	return r.Store.NextNotice(ctx)
}

func (r *Attention) tellOne(ctx context.Context, t store.Target, n store.Notice) error {
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	var body noticeBody
	if err := json.Unmarshal([]byte(n.Payload), &body); err != nil {
		return err
	}
	if t.Kind == "email" {
		if r.Mail == nil {
			return fmt.Errorf("no mail server is known to the service")
		}
		return r.Mail.Send(ctx, t.Address, n.Subject, body.Data.mailText(), n.Ref)
	}
	secrets, err := r.Sealer.Open(t.Secret)
	if err != nil {
		return err
	}
	signer, err := standardwebhooks.NewWebhook(secrets["secret"])
	if err != nil {
		return err
	}
	now := r.Clock()
	signature, err := signer.Sign(n.Ref, now, []byte(n.Payload))
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, t.Address, bytes.NewReader([]byte(n.Payload)))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	req.Header.Set(standardwebhooks.HeaderWebhookID, n.Ref)
	req.Header.Set(standardwebhooks.HeaderWebhookTimestamp, fmt.Sprint(now.Unix()))
	req.Header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	res, err := r.Client.Do(req)
	if err != nil {
		var at *url.Error
		if errors.As(err, &at) {
			err = at.Err // without the address, which may hold a key
		}
		return err
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10))
	if res.StatusCode/100 != 2 {
		return fmt.Errorf("it answered %d", res.StatusCode)
	}
	return nil
}
