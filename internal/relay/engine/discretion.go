package engine

import (
	"maps"
	"slices"

	"openrelay/internal/store"
)

// Texts of exceptions and of the timeline quote what came from outside and what people wrote, so they may hold names,
// addresses and codes of vouchers. What is told to those who may not see such is decided here: only what is known to quote
// nothing of the kind is told, anything new is kept back until somebody has thought about it.

// Impersonal tells whether the text of an exception is about goods or an access only, not about anybody's order.
func Impersonal(e store.Exception) bool {
	if e.OrderID != 0 || e.OrderNumber != "" || e.InboxID != 0 {
		return false
	}
	switch e.Cause {
	case NegativeStock, ListingRejected, EditUnclear, CredentialsRefused, BackupFailed, Backlog, ServiceUnwell, CountBin:
		return true
	}
	return false
}

// impersonalNotes are the entries of an order's timeline that are of our own making and quote numbers of ours only.
var impersonalNotes = map[string]bool{
	"taken in": true, "accepted": true, "handed over": true, "shipped": true, "by the channel": true, "released": true,
	"allocated": true, "matched": true, "channel state": true, "changed": true, "booked": true, "tag": true, "assigned": true,
	"typed by": true, "posted": true, "label asked": true, "routed": true, "picked": true, "packed": true, "called off": true,
	"number released": true, "taken in again": true, "merged": true, "merge undone": true, "personal data": true,
	"unpacked": true, "taken back": true, "not found": true, "came back": true,
	"return called off": true, "refund": true, "exchange": true, "void asked": true, "voided": true,
	"label kept": true, string(PutBack): true,
}

// ImpersonalNotes are the kinds of entries of an order's timeline that quote nothing of anybody.
func ImpersonalNotes() []string { return slices.Sorted(maps.Keys(impersonalNotes)) }

// ImpersonalEntry tells whether an entry of the timeline quotes nothing of anybody.
func ImpersonalEntry(e store.Entry) bool {
	switch e.Thing {
	case "item", "connector", "company", "rule", "location", "purchase", "transfer", "count", "round":
		return true
	case "order":
		return impersonalNotes[e.What]
	case "connection":
		return e.What == "feed" || e.What == "connection" || e.What == "manifest"
	}
	return false
}

// Discreet is an exception as those are told of it who may not see what is private.
func Discreet(e store.Exception, instead string) store.Exception {
	if Impersonal(e) {
		return e
	}
	e.Text = instead
	switch e.Cause { // the subject is what the other side said
	case WriteBackRefused, LabelRefused, VoidRefused, NotUnderstood, NotTakenIn, NotApplied, FileNotTaken:
		e.Subject = ""
	}
	return e
}
