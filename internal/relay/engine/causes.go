package engine

import "openrelay/internal/core/order"

// Causes of exceptions that are not holds of orders.
const (
	CredentialsRefused order.Cause = "credentials refused"    // ends when we are let in again
	WriteBackRefused   order.Cause = "write-back refused"     // a message that the other side does not take
	NotUnderstood      order.Cause = "message not understood" // a message that cannot be read
	FileNotTaken       order.Cause = "file not taken"         // one that cannot be read, as a whole or in a record
	NotTakenIn         order.Cause = "message not taken in"   // one that was understood, but could not be taken in
	NotApplied         order.Cause = "dispatch not applied"   // a dispatch that was told and fits nothing here
	PutBack            order.Cause = "put back"               // goods that were picked and are not wanted any more
	ServiceOpen        order.Cause = "service to be chosen"   // how a parcel is sent is a person's choice
	NegativeStock      order.Cause = "negative stock"         // ends when there is something on hand again
	EditUnclear        order.Cause = "edit not clear"         // an edit that cannot be told apart from sales and sends
	LabelRefused       order.Cause = "label refused"
	LabelUnknown       order.Cause = "label not known" // it may exist
	LabelSurplus       order.Cause = "label not needed"
	CountBin           order.Cause = "bin to count"          // something was not where it should lie
	RefundUntold       order.Cause = "refund not told"       // a channel that cannot be told of it
	ReturnWaits        order.Cause = "return to be decided"  // all of it came, and nobody says what the buyer gets back
	VoidRefused        order.Cause = "label not voided"      // a carrier that does not take a label back
	NumberStands       order.Cause = "number still stands"   // a channel shows a number that is not right any more
	CancelUntold       order.Cause = "cancellation not told" // a channel that cannot be told of it
	NoCarton           order.Cause = "fits no carton"        // ends when there is one, or the item is smaller than was thought
	NotHandedOver      order.Cause = "parcel not taken"      // its carrier did not take it with the others of a day
	NotCollected       order.Cause = "not collected"         // a carrier that does not come for what it took the list of
	ParcelLate         order.Cause = "parcel late"           // ends when it arrives, or comes back
	ParcelStuck        order.Cause = "parcel stuck"          // ends with its next event
	ParcelLost         order.Cause = "parcel lost"           // its carrier says so
	BillDiffers        order.Cause = "bill differs"          // ends when each line of it was looked at
	RequestRefused     order.Cause = "request not taken"     // a partner that does not take what it is asked, as it is asked
	RequestSilent      order.Cause = "partner silent"        // ends when it says something, or the request ends
	RequestLook        order.Cause = "request to look at"    // a partner says what does not fit what it was asked
	SentUnwanted       order.Cause = "sent and not wanted"   // a partner sent what was called off, or more than it was asked for
	UnknownThere       order.Cause = "item not known there"  // ends when it is said what a partner calls it
	StockDiffers       order.Cause = "stock differs"         // ends when somebody has looked at each difference
	PrinterOff         order.Cause = "printer off"           // ends with the first paper that it prints
	NotPrinted         order.Cause = "not printed"           // a paper that its printer refuses
	NumberUntold       order.Cause = "number not told"       // a parcel of which its channel cannot be told
	ListingRejected    order.Cause = "listing rejected"      // its channel does not take it as we publish it
	BackupFailed       order.Cause = "backup failed"         // ends when one is made
	ConnectionDead     order.Cause = "connection dead"       // nothing could be read from it for long
	Backlog            order.Cause = "backlog"               // messages wait for long
	ServiceUnwell      order.Cause = "service unwell"        // its disk, its clock or its file
)

// Causes are the causes of exceptions that are not holds of orders.
var Causes = []order.Cause{NegativeStock, EditUnclear, CredentialsRefused, WriteBackRefused, LabelRefused, LabelUnknown,
	LabelSurplus, NoCarton, NotHandedOver, NotCollected, ParcelLate, ParcelStuck, ParcelLost, BillDiffers, RequestRefused,
	RequestSilent, RequestLook, SentUnwanted, UnknownThere, StockDiffers, PrinterOff,
	NotPrinted, NumberUntold, CountBin, CancelUntold, RefundUntold, ReturnWaits, VoidRefused, NumberStands, ServiceOpen,
	PutBack, NotApplied, NotTakenIn, NotUnderstood, FileNotTaken, ListingRejected, BackupFailed, ConnectionDead, Backlog,
	ServiceUnwell}
