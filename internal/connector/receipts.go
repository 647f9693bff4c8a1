package connector

import (
	"time"

	"openrelay/internal/core/message"
)

// maxBody is the most of a body, or of a file that cannot be read piece by piece, that is held at once.
const maxBody = 256 << 20

// defaultWithin is how long a receipt is waited for, where a definition does not say it.
const defaultWithin = 4 * time.Hour

// ReceiptOf tells that files of a feed are answered by receipts, and how long one is waited for; 0: they are not.
func (l *Line) ReceiptOf(kind message.Feed) time.Duration {
	f := l.Def.Feeds[kind]
	if f == nil || f.Send == nil || f.Send.Receipt == nil {
		return 0
	}
	if d := time.Duration(f.Send.Receipt.Within); d > 0 {
		return d
	}
	return defaultWithin
}

// checkReceipts refuses receipts that could never come, or that are of no file.
func (d *Definition) checkReceipts(l *language) {
	for _, kind := range sortedKeys(d.Feeds) {
		s := d.Feeds[kind].Send
		if s == nil || s.Receipt == nil {
			continue
		}
		at := s.Receipt.Reference
		switch {
		case s.Request.File == "":
			l.complain(at.Line, at.Column, "feeds."+string(kind)+".send.receipt", "a receipt answers a file; of a call, report says it")
		case d.Feeds[message.ReceiptsIn] == nil:
			l.complain(at.Line, at.Column, "feeds."+string(kind)+".send.receipt", "there is no feed %q: none would ever come",
				message.ReceiptsIn)
		}
	}
}
