package engine

// CredentialsRefused is the cause of an exception that ends when we are let in again.
const CredentialsRefused = "credentials refused"

// WriteBackRefused is the cause of an exception about a message that the other side does not take.
const WriteBackRefused = "write-back refused"

// NotTakenIn is the cause of an exception about a message that was understood, but could not be taken in.
const NotTakenIn = "message not taken in"

// NotApplied is the cause of an exception about a dispatch that was told and fits nothing here.
const NotApplied = "dispatch not applied"

// PutBack is the cause of an exception about goods that were picked and are not wanted any more.
const PutBack = "put back"

// ServiceOpen is the cause of an exception about a parcel for which a person must choose how it is sent.
const ServiceOpen = "service to be chosen"

// NegativeStock is the cause of an exception that ends when there is something on hand again.
const NegativeStock = "negative stock"

// EditUnclear is the cause of an exception about an edit that could not be told apart from sales and sends.
const EditUnclear = "edit not clear"

// Causes of exceptions about labels.
const (
	LabelRefused = "label refused"
	LabelUnknown = "label not known" // it may exist
	LabelSurplus = "label not needed"
)

// ListingRejected is the cause of an exception about a listing that its channel does not take as we publish it.
const ListingRejected = "listing rejected"

// NotUnderstood is the cause of an exception about a message that cannot be read.
const NotUnderstood = "message not understood"

// Causes are the causes of exceptions that are not holds of orders.
var Causes = []string{NegativeStock, EditUnclear, CredentialsRefused, WriteBackRefused, LabelRefused, LabelUnknown, LabelSurplus, ServiceOpen, PutBack, NotApplied, NotTakenIn, NotUnderstood,
	ListingRejected}
