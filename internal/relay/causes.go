package relay

// credentialsRefused is the cause of an exception that ends when we are let in again.
const credentialsRefused = "credentials refused"

// writeBackRefused is the cause of an exception about a message that the other side does not take.
const writeBackRefused = "write-back refused"

// notTakenIn is the cause of an exception about a message that was understood, but could not be taken in.
const notTakenIn = "message not taken in"

// notApplied is the cause of an exception about a dispatch that was told and fits nothing here.
const notApplied = "dispatch not applied"

// putBack is the cause of an exception about goods that were picked and are not wanted any more.
const putBack = "put back"

// serviceOpen is the cause of an exception about a parcel for which a person must choose how it is sent.
const serviceOpen = "service to be chosen"

// negativeStock is the cause of an exception that ends when there is something on hand again.
const negativeStock = "negative stock"

// editUnclear is the cause of an exception about an edit that could not be told apart from sales and sends.
const editUnclear = "edit not clear"

// Causes of exceptions about labels.
const (
	labelRefused = "label refused"
	labelUnknown = "label not known" // it may exist
	labelSurplus = "label not needed"
)
